import { useEffect, useState } from "react";
import { ago, when } from "../words";

/** A moment as how long ago it is; exactly when, as its title. It goes on by itself. */
export function Since({ at }: { at: string | undefined }) {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const tick = setInterval(() => setNow(Date.now()), 30_000);
    return () => clearInterval(tick);
  }, []);
  if (!at || at.startsWith("0001-")) return <>unknown</>;
  return (
    <time
      dateTime={at}
      title={when(at)}
    >
      {ago(Date.parse(at), now)}
    </time>
  );
}
