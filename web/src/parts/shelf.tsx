import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { DropZone, Text, type DropItem } from "react-aria-components";
import styled from "styled-components";
import type { World } from "../api/client";
import { queries } from "../api/queries";
import { Muted, Picture, serverPicture } from "./layout";
import { whyNot } from "./view";

/** What a world is while it is dragged: its name. */
export const worldType = "application/x-reshard-world";

/** The name of the world that was dropped; "" when it was something else. */
export async function droppedWorld(items: DropItem[]): Promise<string> {
  for (const item of items)
    if (item.kind === "text" && item.types.has(worldType)) return await item.getText(worldType);
  return "";
}

const Dock = styled.section`
  position: fixed;
  inset: auto 0 0 0;
  z-index: 5;
  background: var(--raised);
  border-top: 1px solid var(--line-strong);
  box-shadow: 0 -6px 20px rgb(0 0 0 / 18%);
  padding: 0.8rem 1.6rem 1rem;
  h2 {
    margin-bottom: 0.5rem;
  }
  & > div {
    display: flex;
    gap: 0.7rem;
    overflow-x: auto;
    padding: 3px;
  }
`;

const Place = styled(DropZone)`
  flex: none;
  display: flex;
  gap: 0.7rem;
  align-items: center;
  width: 15rem;
  padding: 0.6rem;
  border: 2px dashed var(--line-strong);
  border-radius: 7px;
  background: var(--sheet);
  small {
    display: block;
    color: var(--muted);
  }
  &[data-drop-target] {
    border: 2px solid var(--accent);
    background: var(--accent-soft);
  }
  &[data-focus-visible] {
    outline: 2px solid var(--focus);
    outline-offset: 2px;
  }
`;

/** While a world is dragged: the servers that run its game, each a place to let it go. Nothing is done by that yet. */
export function Shelf({ world }: { world: World }) {
  const navigate = useNavigate();
  const servers = useQuery(queries.servers());
  const could = (servers.data ?? []).filter((s) => whyNot(s, world.game) === "");
  return (
    <Dock aria-label="Onto which server?">
      <h2>Onto which server?</h2>
      {could.length === 0 && <Muted>No server that runs {world.game} could take it now.</Muted>}
      <div>
        {could.map((s) => (
          <Place
            key={s.name}
            aria-label={`Put ${world.title} onto ${s.name}`}
            getDropOperation={(types) => (types.has(worldType) ? "copy" : "cancel")}
            onDrop={(e) =>
              void droppedWorld(e.items).then((name) =>
                name
                  ? navigate({ to: "/change", search: { kind: "put", server: s.name, world: name } })
                  : undefined,
              )
            }
          >
            <Picture
              size={48}
              src={s.drawn && s.activeTitle ? serverPicture(s.name, s.active, s.since) : undefined}
              of={s.activeTitle || s.active || s.name}
            />
            <Text slot="label">
              <b>{s.name}</b>
              <small>now {s.activeTitle || s.active || "no world"}</small>
            </Text>
          </Place>
        ))}
      </div>
    </Dock>
  );
}
