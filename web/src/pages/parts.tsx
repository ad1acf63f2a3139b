import { type ReactNode, useState } from "react";
import { TabPanel, Tabs } from "react-aria-components";
import styled from "styled-components";
import { type Backup, Problem, type Row, type Sheet } from "../api/client";
import BackupDays from "../parts/backup-days";
import { Choice } from "../parts/choice";
import { Button, Switch } from "../parts/controls";
import { Tab, TabList } from "../parts/tabs";
import { Field, Filters, Lines } from "../parts/form";
import {
  Facts,
  Failure,
  Head,
  Loading,
  Muted,
  Page,
  Panel,
  Picture,
  Progress,
  Table,
  Told,
} from "../parts/layout";
import { MapOf } from "../parts/map";
import { Mark } from "../parts/marks";
import { ProofList } from "../parts/plan";
import { FitSheet } from "../parts/sheet";
import SizeChart from "../parts/size-chart";
import { TimeLine } from "../parts/time-line";

const Beside = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 0.8rem;
  align-items: center;
`;

function Part({ name, children }: { name: string; children: ReactNode }) {
  return (
    <Panel aria-label={name}>
      <h2>{name}</h2>
      {children}
    </Panel>
  );
}

const marks =
  "fits adjust choose blocks running starting stopping stopped exited unknown unreachable drafted staging waiting switching proving done undoing undone held".split(
    " ",
  );
const hour = 3600_000;
const noon = Date.parse("2026-04-20T12:00:00Z");
const iso = (before: number) => new Date(noon - before * hour).toISOString();

const cell = (text: string, from = "") => ({ text, from });
const row = (
  concern: string,
  title: string,
  verdict: Row["verdict"],
  say: string,
  more: Partial<Row> = {},
): Row => ({
  concern,
  title,
  verdict,
  say,
  world: cell("2.4.0", "heart.cbor.gz"),
  settings: cell(""),
  server: cell("2.5.1", "server.json"),
  options: [],
  ...more,
});
const sheet: Sheet["sheet"] = {
  verdict: "blocks",
  folder: "Fen-Garden",
  rows: [
    row("version", "Version", "blocks", "The world was written by a newer version.", {
      mend: "Bring the server to 2.6.0 or newer.",
    }),
    row("folder-name", "Allowed characters", "choose", "The game does not allow a blank in a folder name.", {
      options: [
        { choice: "folder-name", answer: "Fen-Garden", say: "Place the world under this name." },
        { choice: "folder-name", answer: "fen", say: "Use the name that the settings hold." },
      ],
    }),
    row("seed", "Seed", "adjust", "The settings hold another seed.", { mend: "Write world.seed=7." }),
    row("mods", "Mods", "fits", "The same mods in the same versions."),
  ],
};

/** Every part in every state that it has; only in development, and held to its pictures by the tests. */
export function Parts() {
  const [typed, setTyped] = useState("north-plot");
  const [chosen, setChosen] = useState("");
  const [on, setOn] = useState(true);
  return (
    <Page>
      <Head>
        <h1>Parts</h1>
        <Mark of="fits">all is well</Mark>
      </Head>
      <Part name="Buttons">
        <Beside>
          {(["main", "plain", "grave"] as const).flatMap((look) => [
            <Button
              key={look}
              look={look}
            >
              {look}
            </Button>,
            <Button
              key={`${look} off`}
              look={look}
              isDisabled
            >
              {look}, disabled
            </Button>,
          ])}
        </Beside>
      </Part>
      <Part name="Marks">
        <Beside>
          {marks.map((m) => (
            <Mark
              key={m}
              of={m}
            />
          ))}
          {["fits", "adjust", "choose", "blocks"].map((m) => (
            <Mark
              key={m}
              of={m}
              quiet
            >
              quiet {m}
            </Mark>
          ))}
        </Beside>
      </Part>
      <Part name="Fields">
        <Filters>
          <Field
            label="With a value"
            value={typed}
            onChange={setTyped}
            hint="what it is for stands below it"
          />
          <Choice
            label="One of several"
            all="all of them"
            options={["north", "south"]}
            value={chosen}
            onChange={setChosen}
          />
          <Switch
            isSelected={on}
            onChange={setOn}
          >
            Something that is on
          </Switch>
          <Switch isDisabled>Something that cannot be</Switch>
          <Lines
            label="Several lines"
            value={"first\nsecond"}
          />
          <Field
            label="Not to be changed"
            value="local"
            isDisabled
          />
        </Filters>
      </Part>
      <Part name="Tabs">
        <Tabs>
          <TabList aria-label="Tabs">
            <Tab id="one">World</Tab>
            <Tab id="two">Log</Tab>
            <Tab id="three">Backups</Tab>
          </TabList>
          <TabPanel id="one">What the first is about.</TabPanel>
        </Tabs>
      </Part>
      <Failure
        error={new Problem({ detail: "The server’s folder is not there.", next: "Bring it back." }, 503)}
      />
      <Failure error={new Error("Something without a next step.")} />
      <Loading say="What is still to come" />
      <Part name="Nothing there">
        <Muted>Nothing yet. What to do for it to be more stands here.</Muted>
      </Part>
      <Part name="Progress">
        <Progress
          label="Staging"
          done={30}
          all={100}
          above="Staging Fen Garden"
          below="230 KiB of 768 KiB"
        />
      </Part>
      <Part name="Pictures of worlds that draw none">
        <Beside>
          {["Fen Garden", "Winter Beds", "Old Quay", "Kettle Moraine", "frostfall"].map((of) => (
            <Picture
              key={of}
              size={64}
              of={of}
            />
          ))}
        </Beside>
      </Part>
      <Part name="Told one below the other">
        <Told>
          {["done", "undone", "held"].map((m) => (
            <li key={m}>
              <Mark of={m} />
              <span>Put “Fen Garden” onto north-plot</span>
              <small>2 hours ago, ada</small>
            </li>
          ))}
        </Told>
      </Part>
      <Part name="Facts">
        <Facts>
          <dt>Seed</dt>
          <dd>
            -4713582209 <small>heart.cbor.gz</small>
          </dd>
          <dt>Folder</dt>
          <dd>
            <code>“Fen-Garden”</code>
          </dd>
        </Facts>
      </Part>
      <Part name="A table, cards on a phone">
        <Table>
          <thead>
            <tr>
              <th>User</th>
              <th>Since</th>
            </tr>
          </thead>
          <tbody>
            <tr>
              <td>ada</td>
              <td>1 Apr 2026</td>
            </tr>
            <tr>
              <td>bryn</td>
              <td>2 Apr 2026</td>
            </tr>
          </tbody>
        </Table>
      </Part>
      <Part name="The sheet">
        <FitSheet
          sheet={sheet}
          choices={{}}
          onChoose={() => {}}
        />
      </Part>
      <Part name="A proof">
        <ProofList
          proof={{
            checks: [
              {
                what: "the server is ready",
                expected: "ready on port",
                seen: "ready on port 4711",
                ok: true,
              },
              { what: "the console answers", expected: "seed: 7", seen: "seed: 8", ok: false },
              { what: "the world that it has opened", expected: "fen", seen: "", ok: false, unseen: true },
            ],
          }}
        />
      </Part>
      <Part name="A map">
        <MapOf
          map={{
            width: 100,
            height: 60,
            left: -50,
            top: -30,
            scale: 1,
            down: 1,
            tiles: 24,
            spawn: { x: 0, z: 0 },
            landmarks: [{ id: 1, say: "red roof", x: 20, z: 10, shown: true }],
            players: [{ id: "1", name: "Ada", x: -20, z: -10, shown: true }],
          }}
          src="/mark.svg"
          title="Fen Garden"
          onPick={() => {}}
        />
      </Part>
      <Part name="Size over time">
        <SizeChart
          states={[90, 60, 30, 2].map((days, i) => ({
            at: noon - days * 24 * hour,
            bytes: (i + 2) * 3e6,
            played: noon - (days + 1) * 24 * hour,
          }))}
          deeds={[{ at: noon - 45 * 24 * hour, says: "Put “Fen Garden”" }]}
        />
      </Part>
      <Part name="Backups by age">
        <TimeLine
          label="By age"
          moments={[1, 5, 26, 50, 200].map((h) => ({ at: iso(h), keeps: h !== 50, says: `${h} hours` }))}
        />
      </Part>
      <Part name="Days with backups">
        <BackupDays
          backups={[30, 54, 126].map((h) => ({ begun: iso(h) }) as Backup)}
          onChoose={() => {}}
        />
      </Part>
    </Page>
  );
}
