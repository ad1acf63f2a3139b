import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import styled from "styled-components";
import type { WorldMap } from "../api/client";
import { queries } from "../api/queries";
import { count } from "../words";
import { Button, Switch } from "./controls";
import { copyPicture, Muted } from "./layout";

const View = styled.div`
  position: relative;
  height: 26rem;
  overflow: hidden;
  border: 1px solid var(--line-strong);
  border-radius: 6px;
  background: var(--ground);
  touch-action: none;
  cursor: grab;
  &:active {
    cursor: grabbing;
  }
  &:focus-visible {
    outline: 2px solid var(--focus);
    outline-offset: 2px;
  }
  svg {
    display: block;
    width: 100%;
    height: 100%;
  }
  image {
    image-rendering: pixelated;
  }
  text {
    font: 600 12px var(--text);
    fill: #fff;
    paint-order: stroke;
    stroke: #101614;
    stroke-width: 3px;
  }
`;
const Tools = styled.div`
  display: flex;
  gap: 0.5rem;
  align-items: center;
  margin-top: 0.5rem;
  flex-wrap: wrap;
  p {
    margin-right: auto;
  }
`;

/** What of the picture is seen: its middle in pixels of the picture, and how many screen pixels one of them has. */
interface Seen {
  x: number;
  y: number;
  zoom: number;
}

const closest = 24;
const clamp = (v: number, low: number, high: number) => Math.min(high, Math.max(low, v));

/** Keeps the middle within the picture and the zoom between all of it and a few pixels. */
export function held(s: Seen, m: { width: number; height: number }, fit: number): Seen {
  return {
    x: clamp(s.x, 0, m.width),
    y: clamp(s.y, 0, m.height),
    zoom: clamp(s.zoom, fit, Math.max(fit, closest)),
  };
}

/** A world from above, to be moved and zoomed by mouse, touch or keys, with spawn and landmarks. */
export function WorldMapView({
  copy,
  title,
  src,
  onPick,
  picked,
}: {
  copy: string;
  title: string;
  src?: string;
} & Picking) {
  const map = useQuery(queries.map(copy));
  if (map.isError) return <Muted>There is no picture: {map.error.message}</Muted>;
  if (!map.data) return <Muted>Drawing it …</Muted>;
  return (
    <MapOf
      map={map.data}
      src={src ?? copyPicture(copy) ?? ""}
      title={title}
      onPick={onPick}
      picked={picked}
    />
  );
}

/** A place that is picked on the map: with a click, a tap, or Enter for its middle. */
type Picking = { onPick?: (x: number, z: number) => void; picked?: { x: number; z: number } };

type Point = { x: number; y: number };

function SpawnAt({ p }: { p: Point }) {
  return (
    <g>
      <circle
        cx={p.x}
        cy={p.y}
        r="7"
        fill="none"
        stroke="#101614"
        strokeWidth="5"
      />
      <circle
        cx={p.x}
        cy={p.y}
        r="7"
        fill="none"
        stroke="#fff"
        strokeWidth="2.500"
      />
      <text
        x={p.x + 12}
        y={p.y + 4}
      >
        spawn
      </text>
    </g>
  );
}

/** Where somebody stands, as a diamond. */
function PlayerAt({ p, name }: { p: Point; name: string }) {
  const diamond = `M${p.x} ${p.y - 6}l6 6l-6 6l-6 -6z`;
  return (
    <g>
      <path
        d={diamond}
        fill="#fff"
        stroke="#101614"
        strokeWidth="2"
      />
      <text
        x={p.x + 10}
        y={p.y + 4}
      >
        {name}
      </text>
    </g>
  );
}

function LandmarkAt({ p, say }: { p: Point; say: string }) {
  return (
    <g>
      <path
        d={`M${p.x - 6} ${p.y - 6}l12 12m0-12l-12 12`}
        stroke="#101614"
        strokeWidth="5.500"
      />
      <path
        d={`M${p.x - 6} ${p.y - 6}l12 12m0-12l-12 12`}
        stroke="#fff"
        strokeWidth="2.500"
      />
      <text
        x={p.x + 10}
        y={p.y + 4}
      >
        {say}
      </text>
    </g>
  );
}

/** The part of the map that needs its size known. */
export function MapOf({
  map,
  src,
  title,
  onPick,
  picked,
}: { map: WorldMap; src: string; title: string } & Picking) {
  const [people, setPeople] = useState(true);
  const width = 620;
  const height = 416;
  const fit = Math.min(width / map.width, height / map.height) * 0.94;
  const [seen, setSeen] = useState<Seen>({ x: map.width / 2, y: map.height / 2, zoom: fit });
  const from = useRef<{ id: number; x: number; y: number; moved: boolean }>(null);
  const canPick = onPick !== undefined && map.scale > 0;
  /** The place in the world of a point of the view, in its own units. */
  const placeAt = (x: number, y: number) =>
    onPick?.(
      Math.round(map.left + (seen.x + (x - width / 2) / seen.zoom) * map.scale),
      Math.round(map.top + (seen.y + (y - height / 2) / seen.zoom) * map.down),
    );
  const go = (s: Partial<Seen>) => setSeen((old) => held({ ...old, ...s }, map, fit));
  const by = (factor: number) => setSeen((old) => held({ ...old, zoom: old.zoom * factor }, map, fit));
  const keys: Record<string, () => void> = {
    "+": () => by(1.5),
    "=": () => by(1.5),
    "-": () => by(1 / 1.5),
    "0": () => go({ x: map.width / 2, y: map.height / 2, zoom: fit }),
    ArrowLeft: () => go({ x: seen.x - 60 / seen.zoom }),
    ArrowRight: () => go({ x: seen.x + 60 / seen.zoom }),
    ArrowUp: () => go({ y: seen.y - 60 / seen.zoom }),
    ArrowDown: () => go({ y: seen.y + 60 / seen.zoom }),
    ...(canPick && { Enter: () => placeAt(width / 2, height / 2) }),
  };
  const at = (x: number, z: number) => ({
    x: width / 2 + ((x - map.left) / map.scale - seen.x) * seen.zoom,
    y: height / 2 + ((z - map.top) / map.down - seen.y) * seen.zoom,
  });
  const right = map.left + map.width * map.scale;
  const bottom = map.top + map.height * map.down;
  const spawn = map.spawn && map.scale > 0 ? at(map.spawn.x, map.spawn.z) : undefined;
  const hidden = map.landmarks.filter((l) => !l.shown);
  return (
    <>
      <View
        tabIndex={0}
        role="application"
        aria-label={`Map of ${title}: arrow keys move it, plus and minus zoom, 0 shows all of it${canPick ? ", Enter picks the place in its middle" : ""}`}
        onKeyDown={(e) => {
          const act = keys[e.key];
          if (act) {
            e.preventDefault();
            act();
          }
        }}
        onWheel={(e) => by(e.deltaY < 0 ? 1.2 : 1 / 1.2)}
        onPointerDown={(e) => {
          from.current = { id: e.pointerId, x: e.clientX, y: e.clientY, moved: false };
          e.currentTarget.setPointerCapture(e.pointerId);
        }}
        onPointerMove={(e) => {
          const f = from.current;
          if (!f || f.id !== e.pointerId) return;
          const scale = Math.min(width / e.currentTarget.clientWidth, height / e.currentTarget.clientHeight);
          const dx = (e.clientX - f.x) * scale;
          const dy = (e.clientY - f.y) * scale;
          if (!f.moved && Math.hypot(dx, dy) < 4) return; // a hand that clicks is not quite still
          from.current = { id: f.id, x: e.clientX, y: e.clientY, moved: true };
          setSeen((old) => held({ ...old, x: old.x - dx / old.zoom, y: old.y - dy / old.zoom }, map, fit));
        }}
        onPointerUp={(e) => {
          const f = from.current;
          from.current = null;
          if (!canPick || !f || f.moved) return;
          // The picture fills the view and is cut where the view is longer than it.
          const box = e.currentTarget.getBoundingClientRect();
          const ratio = Math.max(box.width / width, box.height / height);
          placeAt(
            width / 2 + (e.clientX - box.left - box.width / 2) / ratio,
            height / 2 + (e.clientY - box.top - box.height / 2) / ratio,
          );
        }}
      >
        <svg
          viewBox={`0 0 ${width} ${height}`}
          preserveAspectRatio="xMidYMid slice"
          aria-hidden="true"
        >
          <image
            href={src}
            x={width / 2 - seen.x * seen.zoom}
            y={height / 2 - seen.y * seen.zoom}
            width={map.width * seen.zoom}
            height={map.height * seen.zoom}
            preserveAspectRatio="none"
          />
          {spawn && <SpawnAt p={spawn} />}
          {map.scale > 0 &&
            people &&
            map.players
              .filter((p) => p.shown)
              .map((p) => (
                <PlayerAt
                  key={p.id}
                  p={at(p.x, p.z)}
                  name={p.name || p.id}
                />
              ))}
          {picked && canPick && (
            <PlayerAt
              p={at(picked.x, picked.z)}
              name={`here: ${picked.x} / ${picked.z}`}
            />
          )}
          {map.scale > 0 &&
            map.landmarks
              .filter((l) => l.shown)
              .map((l) => (
                <LandmarkAt
                  key={l.id}
                  p={at(l.x, l.z)}
                  say={l.say}
                />
              ))}
        </svg>
      </View>
      <Tools>
        <Muted>
          {map.tiles > 0 && `${count(map.tiles, "tile", "tiles")} explored`}
          {map.scale > 0 &&
            `, from ${Math.round(map.left)} / ${Math.round(map.top)} to ${Math.round(right)} / ${Math.round(bottom)}`}
          {hidden.length > 0 && `; beyond it: ${hidden.map((l) => l.say).join(", ")}`}
          {canPick && ". Click a place to note a landmark there"}
        </Muted>
        {map.players.length > 0 && (
          <Switch
            isSelected={people}
            onChange={setPeople}
          >
            {count(map.players.length, "player", "players")}
          </Switch>
        )}
        <Button
          onPress={() => by(1.5)}
          aria-label="Zoom in"
        >
          +
        </Button>
        <Button
          onPress={() => by(1 / 1.5)}
          aria-label="Zoom out"
        >
          −
        </Button>
        <Button onPress={() => go({ x: map.width / 2, y: map.height / 2, zoom: fit })}>All of it</Button>
      </Tools>
    </>
  );
}
