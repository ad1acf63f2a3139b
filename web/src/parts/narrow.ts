import { useSyncExternalStore } from "react";

const phone = "(max-width: 46rem)";

/** Whether the page is as narrow as a phone's; follows the window. */
export function useNarrow(): boolean {
  return useSyncExternalStore(
    (changed) => {
      const media = matchMedia(phone);
      media.addEventListener("change", changed);
      return () => media.removeEventListener("change", changed);
    },
    () => matchMedia(phone).matches,
  );
}
