import { lazy, Suspense, useEffect, useState } from "react";
import { Button } from "./controls";

const Finder = lazy(() => import("./finder").then((m) => ({ default: m.Finder })));

/** Everything by a few letters: Ctrl+K, or the button. */
export function Palette() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
        e.preventDefault();
        setOpen((o) => !o);
      }
    };
    addEventListener("keydown", press);
    return () => removeEventListener("keydown", press);
  }, []);
  return (
    <>
      <Button
        onPress={() => setOpen(true)}
        aria-keyshortcuts="Control+K"
      >
        Go to …
      </Button>
      {open && (
        <Suspense>
          <Finder close={() => setOpen(false)} />
        </Suspense>
      )}
    </>
  );
}
