import { createGlobalStyle } from "styled-components";

// Colours carry no meaning alone: each state has a shape and a word as well.
export const GlobalStyle = createGlobalStyle`
  :root {
    --ground: #eef0eb; --sheet: #fbfcfa; --raised: #ffffff; --line: #d3d9d2; --line-strong: #a9b4ab;
    --ink: #17211c; --muted: #566259; --accent: #17605b; --accent-ink: #ffffff; --accent-soft: #dcebe8;
    --fits: #2c6a3c; --adjust: #7b5600; --choose: #1d4f91; --blocks: #a0241b;
    --fits-soft: #e2efe4; --adjust-soft: #f6ecd4; --choose-soft: #dfe9f7; --blocks-soft: #f8e0dd;
    --focus: #1d4f91; --shadow: 0 1px 2px rgb(23 33 28 / 8%);
    --text: "Atkinson Hyperlegible Next Variable", system-ui, sans-serif;
    --mono: "JetBrains Mono Variable", ui-monospace, monospace;
  }
  @media (prefers-color-scheme: dark) {
    :root {
      --ground: #111618; --sheet: #171d20; --raised: #1d2528; --line: #2d383c; --line-strong: #4b5b60;
      --ink: #e6ebe7; --muted: #9fada6; --accent: #6cc4bb; --accent-ink: #0b1a19; --accent-soft: #1c3634;
      --fits: #85cf97; --adjust: #e6bd62; --choose: #92bcf5; --blocks: #f3988f;
      --fits-soft: #1a3020; --adjust-soft: #362b12; --choose-soft: #1a2a44; --blocks-soft: #401f1c;
      --focus: #92bcf5; --shadow: 0 1px 2px rgb(0 0 0 / 40%);
    }
  }
  @media (prefers-contrast: more) {
    :root { --line: #7d897f; --line-strong: #46524a; --muted: #36413a; --shadow: none; }
  }
  @media (prefers-contrast: more) and (prefers-color-scheme: dark) {
    :root { --line: #7b888d; --line-strong: #a9b7bc; --muted: #d3dcd6; }
  }
  * { box-sizing: border-box; }
  /* What gets the focus does not come to lie behind what sticks to the lower edge. */
  html { scroll-padding-bottom: 6rem; background: var(--ground); color: var(--ink); font: 15px/1.45 var(--text); }
  body { margin: 0; }
  h1, h2, h3, p, ul, ol, dl, dd, figure { margin: 0; padding: 0; }
  h1 { font-size: 1.5rem; line-height: 1.2; font-weight: 650; letter-spacing: -0.01em; }
  h2 { font-size: 1.05rem; font-weight: 650; }
  h3 { font-size: 0.95rem; font-weight: 650; }
  ul, ol { list-style: none; }
  a { color: var(--accent); text-underline-offset: 2px; }
  code, pre { font-family: var(--mono); font-size: 0.87em; font-variant-ligatures: none; }
  h1:focus { outline: none; }
  :focus-visible { outline: 2px solid var(--focus); outline-offset: 2px; border-radius: 3px; }
  .unseen { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); white-space: nowrap; }
  @media (prefers-reduced-motion: no-preference) { html { scroll-behavior: smooth; } }
`;
