import { StreamHub, type Asking } from "./stream-hub";

const hub = new StreamHub();

addEventListener("connect", (e) => {
  const port = (e as MessageEvent).ports[0];
  if (!port) return;
  const page = (what: unknown) => port.postMessage(what);
  port.addEventListener("message", (m: MessageEvent<Asking>) => hub.hear(page, m.data));
  port.start();
  hub.join(page);
});
