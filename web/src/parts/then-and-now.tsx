import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Label, Slider, SliderOutput, SliderThumb, SliderTrack } from "react-aria-components";
import styled from "styled-components";
import type { Copy, WorldMap } from "../api/client";
import { queries } from "../api/queries";
import { copyPicture, Loading, Muted } from "./layout";

const Frame = styled.figure`
  border: 1px solid var(--line-strong);
  border-radius: 6px;
  overflow: hidden;
  background: var(--ground);
  svg {
    display: block;
    width: 100%;
    max-height: 26rem;
  }
  image {
    image-rendering: pixelated;
  }
  text {
    font: 600 1px var(--text);
    fill: #fff;
    paint-order: stroke;
    stroke: #101614;
    stroke-width: 0.25px;
  }
`;

const Line = styled(Slider)`
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 0.2rem 1rem;
  margin-top: 0.6rem;
  .track {
    grid-column: 1 / -1;
    position: relative;
    height: 1.7rem;
    cursor: pointer;
  }
  .track::before {
    content: "";
    position: absolute;
    inset: calc(50% - 2px) 0 auto 0;
    height: 4px;
    border-radius: 2px;
    background: var(--line-strong);
  }
  .thumb {
    top: 50%;
    width: 1.5rem;
    height: 1.5rem;
    border-radius: 50%;
    background: var(--accent);
    border: 2px solid var(--sheet);
    box-shadow: var(--shadow);
    touch-action: none;
  }
  .thumb[data-focus-visible] {
    outline: 2px solid var(--focus);
    outline-offset: 2px;
  }
`;

type Box = { x: number; y: number; width: number; height: number };

/** Where a picture lies in its world, north or as its map says up, in the world's units. */
export function boxOf(m: WorldMap): Box {
  const scale = m.scale || 1;
  const down = Math.abs(m.down || scale);
  const top = (m.down || scale) < 0 ? -m.top : m.top;
  return { x: m.left, y: top, width: m.width * scale, height: m.height * down };
}

/** The smallest box around two. */
export function around(a: Box, b: Box): Box {
  const [x, y] = [Math.min(a.x, b.x), Math.min(a.y, b.y)];
  return {
    x,
    y,
    width: Math.max(a.x + a.width, b.x + b.width) - x,
    height: Math.max(a.y + a.height, b.y + b.height) - y,
  };
}

/** Two states of a world laid over each other, each place on its place; a slider uncovers the later one. */
export function ThenAndNow({ before, after }: { before: Copy; after: Copy }) {
  const [at, setAt] = useState(50);
  const was = useQuery(queries.map(before.id));
  const is = useQuery(queries.map(after.id));
  if (was.isError || is.isError) return <Muted>Of one of them there is no picture.</Muted>;
  if (!was.data || !is.data) return <Loading say="Drawing both" />;
  const [old, now] = [boxOf(was.data), boxOf(is.data)];
  const all = around(old, now);
  const edge = all.x + (all.width * at) / 100;
  const word = all.width / 28;
  return (
    <>
      <Frame
        aria-label={`Before, left of the line, and after, right of it; the line stands at ${at} percent`}
      >
        <svg
          viewBox={`${all.x} ${all.y} ${all.width} ${all.height}`}
          aria-hidden="true"
        >
          <image
            href={copyPicture(after.id)}
            {...now}
            preserveAspectRatio="none"
          />
          <clipPath id="before">
            <rect
              {...all}
              width={(all.width * at) / 100}
            />
          </clipPath>
          <g clipPath="url(#before)">
            <rect
              {...all}
              fill="var(--ground)"
            />
            <image
              href={copyPicture(before.id)}
              {...old}
              preserveAspectRatio="none"
            />
          </g>
          <line
            x1={edge}
            x2={edge}
            y1={all.y}
            y2={all.y + all.height}
            stroke="#fff"
            strokeWidth={all.width / 300}
          />
          <g transform={`translate(${all.x + word / 2} ${all.y + word * 1.3}) scale(${word})`}>
            <text>before</text>
          </g>
          <g
            transform={`translate(${all.x + all.width - word / 2} ${all.y + word * 1.3}) scale(${word})`}
            textAnchor="end"
          >
            <text>after</text>
          </g>
        </svg>
      </Frame>
      <Line
        value={at}
        onChange={(v) => setAt(v as number)}
      >
        <Label>Uncover the earlier state</Label>
        <SliderOutput>{({ state }) => `${state.values[0]} %`}</SliderOutput>
        <SliderTrack className="track">
          <SliderThumb className="thumb" />
        </SliderTrack>
      </Line>
    </>
  );
}
