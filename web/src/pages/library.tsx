import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useEffect, useEffectEvent, useMemo, useRef, useState } from "react";
import {
  Collection,
  GridLayout,
  GridList,
  GridListItem,
  Size,
  useDragAndDrop,
  Virtualizer,
} from "react-aria-components";
import styled from "styled-components";
import type { Wanted, World } from "../api/client";
import { queries } from "../api/queries";
import { Arrivals } from "../parts/arrivals";
import { Choice } from "../parts/choice";
import { Button, Switch } from "../parts/controls";
import { Field, Filters } from "../parts/form";
import { copyPicture, Failure, Head, Loading, Muted, Page, Panel, Picture } from "../parts/layout";
import { Since } from "../parts/moment";
import { Shelf, worldType } from "../parts/shelf";
import { bytes, quoted } from "../words";

const Tag = styled.span`
  display: inline-block;
  font-size: 0.8rem;
  padding: 0 0.4rem;
  margin-left: 0.35rem;
  border: 1px solid var(--line-strong);
  border-radius: 9px;
  color: var(--muted);
`;

/** Worlds as pictures: however many there are, only those that are seen are drawn. */
const Cards = styled(GridList)`
  display: block;
  outline: none;
  .react-aria-GridListItem {
    height: 100%;
    padding: 0.6rem;
    border: 1px solid var(--line);
    border-radius: 7px;
    background: var(--sheet);
    box-shadow: var(--shadow);
    cursor: pointer;
    outline: none;
    overflow-wrap: anywhere;
  }
  .react-aria-GridListItem[data-hovered] {
    border-color: var(--accent);
  }
  .react-aria-GridListItem[data-focus-visible] {
    outline: 2px solid var(--focus);
    outline-offset: 1px;
  }
  .react-aria-GridListItem[data-dragging] {
    opacity: 0.5;
  }
  .of {
    display: grid;
    gap: 0.15rem;
    align-content: start;
    height: 100%;
    overflow: hidden;
  }
  img,
  [data-emblem] {
    width: 100%;
    height: auto;
    aspect-ratio: 1;
    margin-bottom: 0.35rem;
  }
  a {
    font-weight: 650;
    font-size: 1.05rem;
    color: var(--ink);
    text-decoration: none;
  }
  a:hover {
    text-decoration: underline;
  }
  .of > span {
    display: -webkit-box;
    -webkit-box-orient: vertical;
    -webkit-line-clamp: 2;
    overflow: hidden;
  }
  small {
    color: var(--muted);
    font-size: 0.88rem;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .grip {
    position: absolute;
    right: 0.9rem;
    top: 0.9rem;
    padding: 0.1rem 0.5rem;
    border: 1px solid var(--line-strong);
    border-radius: 5px;
    background: var(--raised);
    color: var(--ink);
    font: inherit;
    opacity: 0;
  }
  .react-aria-GridListItem[data-hovered] .grip,
  .grip[data-focus-visible],
  .grip:focus-visible {
    opacity: 1;
  }
` as typeof GridList;

// Looked is what a person looks for; what is empty is not asked.
type Looked = { search: string; game: string; server: string; order: string; aside: boolean };

/** How the library can be ordered, by what it is called here. */
const orders: Record<string, Wanted["order"]> = {
  "last played": "-played",
  title: "name",
  largest: "-size",
};

function LookedFor({
  looked,
  change,
  games,
  servers,
}: {
  looked: Looked;
  change: (to: Looked) => void;
  games: string[];
  servers: string[];
}) {
  return (
    <Filters onSubmit={(e) => e.preventDefault()}>
      <Field
        label="Search"
        hint="title, folder, seed, version, player, note, tag, source"
        value={looked.search}
        onChange={(search) => change({ ...looked, search })}
      />
      <Choice
        label="Game"
        all="all games"
        options={games}
        value={looked.game}
        onChange={(game) => change({ ...looked, game })}
      />
      <Choice
        label="Server"
        all="anywhere"
        options={servers}
        value={looked.server}
        onChange={(server) => change({ ...looked, server })}
      />
      <Choice
        label="In order of"
        all="came last"
        options={Object.keys(orders)}
        value={looked.order}
        onChange={(order) => change({ ...looked, order })}
      />
      <Switch
        isSelected={looked.aside}
        onChange={(aside) => change({ ...looked, aside })}
      >
        Only what is set aside
      </Switch>
    </Filters>
  );
}

/** A world as a card: its picture first. */
function Card({ w, aside }: { w: World; aside: boolean }) {
  const c = w.copies[0];
  const played = c?.facts.lastPlayed;
  const version = c?.facts.facts.version?.text;
  return (
    <div className="of">
      <Picture
        size={220}
        src={c?.drawn ? copyPicture(c.id, 320) : undefined}
        of={w.title}
      />
      <span>
        <Link
          to="/library/$world"
          params={{ world: aside && c ? c.id : w.name }}
        >
          {quoted(w.title)}
        </Link>
        {w.tags.map((t) => (
          <Tag key={t}>{t}</Tag>
        ))}
      </span>
      <small>
        {w.game}
        {version && ` ${version}`}, {bytes(c?.bytes ?? -1)}
        {w.copies.length > 1 && `, ${w.copies.length} copies`}
      </small>
      <small>
        {played && !played.startsWith("0001-") ? (
          <>
            played <Since at={played} />
          </>
        ) : (
          "never played"
        )}
        {w.servers.length > 0 && `, on ${w.servers.join(", ")}`}
      </small>
    </div>
  );
}

/** Stands where a list ends so far, and tells when that comes near. */
function End({ near }: { near: () => void }) {
  const at = useRef<HTMLParagraphElement>(null);
  const tell = useEffectEvent(near);
  useEffect(() => {
    if (!at.current) return;
    const seen = new IntersectionObserver((e) => e.some((x) => x.isIntersecting) && tell(), {
      rootMargin: "1500px",
    });
    seen.observe(at.current);
    return () => seen.disconnect();
  }, []);
  return <Muted ref={at}>Reading more …</Muted>;
}

/** How much of a card stands below its picture, in pixels: a title of up to two lines and two lines more. */
const text = 104;

/** The worlds that are looked for, as many as are scrolled to. */
function Worlds({ wanted, looksFor }: { wanted: Wanted; looksFor: boolean }) {
  const navigate = useNavigate();
  const [dragged, setDragged] = useState("");
  const list = useInfiniteQuery({ ...queries.worldsScrolled(wanted), placeholderData: (old) => old });
  const worlds = useMemo(() => list.data?.pages.flatMap((p) => p.items) ?? [], [list.data]);
  const aside = wanted.aside === true;
  const { dragAndDropHooks } = useDragAndDrop({
    getItems: (keys) => [...keys].map((k) => ({ [worldType]: String(k), "text/plain": String(k) })),
    getAllowedDropOperations: () => ["copy"],
    onDragStart: (e) => setDragged(String([...e.keys][0] ?? "")),
    onDragEnd: () => setDragged(""),
  });
  if (list.isError) return <Failure error={list.error} />;
  if (list.isPending) return <Loading say="Reading the library" />;
  if (worlds.length === 0) {
    return (
      <Panel>
        <Muted>
          {aside
            ? "Nothing is set aside."
            : looksFor
              ? "No world of the library has all of that."
              : "The library is empty. Nothing can be put onto a server before a world is here: drop one above."}
        </Muted>
      </Panel>
    );
  }
  const held = worlds.find((w) => w.name === dragged);
  return (
    <>
      <Virtualizer
        layout={GridLayout}
        layoutOptions={{
          // A picture as wide as the card, and as much text below it on each: none has to be measured.
          minItemSize: new Size(140, 140 + text),
          maxItemSize: new Size(240, 240 + text),
          minSpace: new Size(12, 12),
          preserveAspectRatio: true,
        }}
      >
        <Cards
          aria-label="Worlds"
          layout="grid"
          keyboardNavigationBehavior="tab"
          dragAndDropHooks={aside ? undefined : dragAndDropHooks}
          onAction={(name) => {
            const w = worlds.find((o) => o.name === name);
            void navigate({
              to: "/library/$world",
              params: { world: aside && w?.copies[0] ? w.copies[0].id : String(name) },
            });
          }}
        >
          <Collection items={worlds}>
            {(w) => (
              <GridListItem
                id={w.name}
                textValue={w.title || w.name}
              >
                {({ allowsDragging }) => (
                  <>
                    {allowsDragging && (
                      <Button
                        slot="drag"
                        className="grip"
                        aria-label={`Drag ${w.title} onto a server`}
                      >
                        ⠿
                      </Button>
                    )}
                    <Card
                      w={w}
                      aside={aside}
                    />
                  </>
                )}
              </GridListItem>
            )}
          </Collection>
        </Cards>
      </Virtualizer>
      {list.hasNextPage && (
        <End
          key={worlds.length}
          near={() => void list.fetchNextPage()}
        />
      )}
      {held && <Shelf world={held} />}
    </>
  );
}

/** From how many worlds on there are fields to look among them. */
const many = 6;

export function Library() {
  const [looked, setLooked] = useState<Looked>({ search: "", game: "", server: "", order: "", aside: false });
  const wanted: Wanted = {
    search: looked.search.trim() || undefined,
    game: looked.game || undefined,
    server: looked.server || undefined,
    order: orders[looked.order],
    aside: looked.aside || undefined,
  };
  const looksFor = Object.values(wanted).some(Boolean);
  const whole = useInfiniteQuery(queries.worldsScrolled({}));
  const known = useQuery(queries.games());
  const servers = useQuery(queries.servers());
  const filters = looksFor || (whole.data?.pages[0]?.items.length ?? 0) >= many;
  return (
    <Page>
      <Head>
        <h1>Library</h1>
        {!filters && <Button onPress={() => setLooked({ ...looked, aside: true })}>What is set aside</Button>}
        <Link to="/vault">The vault</Link>
      </Head>
      <Arrivals />
      {filters && (
        <LookedFor
          looked={looked}
          change={setLooked}
          games={(known.data ?? []).map((g) => g.id)}
          servers={(servers.data ?? []).map((s) => s.name)}
        />
      )}
      <Worlds
        wanted={wanted}
        looksFor={looksFor}
      />
    </Page>
  );
}
