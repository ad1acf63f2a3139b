import { useEffect } from "react";

const heading = "main h1";

/**
 * What a page that is gone to owes those who do not see it: its heading is the window's title, and where what had the
 * focus has gone with the page before, the heading has it, so that the next Tab comes to what is on the page.
 */
export function useArriving(path: string): void {
  useEffect(() => {
    let arrived = "";
    const see = () => {
      const h1 = document.querySelector<HTMLElement>(heading);
      if (!h1) return;
      const title = `${h1.textContent} · Reshard`;
      if (document.title !== title) document.title = title;
      if (arrived === path) return;
      arrived = path;
      if (document.activeElement && document.activeElement !== document.body) return;
      h1.tabIndex = -1;
      h1.focus({ preventScroll: true });
    };
    see();
    const changes = new MutationObserver(see);
    changes.observe(document.body, { childList: true, characterData: true, subtree: true });
    return () => changes.disconnect();
  }, [path]);
}
