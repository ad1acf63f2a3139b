import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, type NoticeTarget, type Report } from "../api/client";
import { queries } from "../api/queries";
import { Alerts } from "../parts/alerts";
import { Allowance } from "../parts/allowance";
import { Choice } from "../parts/choice";
import { Button, Switch } from "../parts/controls";
import { AddForm, Field } from "../parts/form";
import { Item, StoreItem } from "../parts/store";
import { Answer, Failure, Head, Muted, Page, Panel, Table } from "../parts/layout";
import { Mark } from "../parts/marks";
import styled from "styled-components";
import { bytes, when } from "../words";

const Wide = styled.div`
  overflow-x: auto;
  /* A phone shows what needs a person; the rest stands on the server's page. */
  @media (max-width: 46rem) {
    th:nth-child(n + 4),
    td:nth-child(n + 4) {
      display: none;
    }
  }
`;

/** How it stands with the backups of all servers, where they are kept, and who is told when something is wrong. */
export function Backups() {
  const report = useQuery(queries.report());
  return (
    <Page>
      <Head>
        <h1>Backups</h1>
      </Head>
      <Alerts whole />
      <Panel>
        <h2>Servers</h2>
        <Answer
          of={report}
          waiting="Reading how it stands with them"
        >
          {(list) =>
            list.length === 0 ? (
              <Muted>
                There is no server yet. <Link to="/add-server">Add one</Link>; a rule on its page backs it up.
              </Muted>
            ) : (
              <Wide>
                <Table>
                  <thead>
                    <tr>
                      <th>Server</th>
                      <th>State</th>
                      <th>Last good backup</th>
                      <th>Read back</th>
                      <th>Kept</th>
                      <th>Rules</th>
                    </tr>
                  </thead>
                  <tbody>
                    {list.map((r) => (
                      <ReportRow
                        key={r.server}
                        report={r}
                      />
                    ))}
                  </tbody>
                </Table>
              </Wide>
            )
          }
        </Answer>
        <Allowance />
      </Panel>
      <Stores />
      <Targets />
    </Page>
  );
}

function ReportRow({ report: r }: { report: Report }) {
  const [state, word] =
    r.troubles.length > 0
      ? (["blocks", "needs you"] as const)
      : r.lastGood
        ? (["done", r.rules.length > 0 ? "well" : "by hand only"] as const)
        : (["planned", "none yet"] as const);
  return (
    <tr>
      <td>
        <Link
          to="/servers/$server"
          params={{ server: r.server }}
          search={{ tab: "backups" }}
        >
          {r.server}
        </Link>
      </td>
      <td>
        <Mark
          of={state}
          quiet
        >
          {word}
        </Mark>
      </td>
      <td>{r.lastGood ? when(r.lastGood) : "none"}</td>
      <td>{r.lastRead ? when(r.lastRead) : "–"}</td>
      <td>{r.kept > 0 ? `${r.kept}, ${bytes(r.bytes)}` : "–"}</td>
      <td>{r.rules.length > 0 ? r.rules.join(", ") : "no rule"}</td>
    </tr>
  );
}

function Stores() {
  const stores = useQuery(queries.stores());
  const keys = useQuery(queries.storeKeys());
  const client = useQueryClient();
  const rotate = useMutation({
    mutationFn: api.rotateKey,
    onSuccess: (k) => client.setQueryData(queries.storeKeys().queryKey, k),
  });
  const [adding, setAdding] = useState(false);
  const none = stores.data?.length === 0;
  return (
    <Panel>
      <h2>Stores</h2>
      <Muted>
        A vault in one place is lost with that place. A store gets everything too, encrypted before it leaves,
        is read back in its turn, and mends what is damaged in the vault.
      </Muted>
      {stores.isError && <Failure error={stores.error} />}
      <ul aria-live="polite">
        {stores.data?.map((s) => (
          <StoreItem
            key={s.name}
            store={s}
          />
        ))}
      </ul>
      {keys.data && keys.data.keys.length > 0 && (
        <p>
          The keys are in <code style={{ overflowWrap: "anywhere" }}>{keys.data.file}</code>. Keep a copy of
          that file elsewhere: without it nobody can read the stores once the machine is gone.{" "}
          <Button
            isDisabled={rotate.isPending}
            onPress={() => rotate.mutate()}
          >
            Make a new key
          </Button>
        </p>
      )}
      {rotate.isError && <Failure error={rotate.error} />}
      {adding ? (
        <AddStore onDone={() => setAdding(false)} />
      ) : (
        <p style={{ marginTop: "0.7rem" }}>
          <Button
            look={none ? "main" : "plain"}
            onPress={() => setAdding(true)}
          >
            Add a store …
          </Button>
        </p>
      )}
    </Panel>
  );
}

function AddStore({ onDone }: { onDone: () => void }) {
  const client = useQueryClient();
  const [kind, setKind] = useState("");
  const [f, setF] = useState({
    name: "",
    folder: "",
    endpoint: "",
    bucket: "",
    prefix: "",
    user: "",
    secret: "",
  });
  const [recover, setRecover] = useState(false);
  const [own, setOwn] = useState(false);
  const set = (key: keyof typeof f) => (v: string) => setF((old) => ({ ...old, [key]: v }));
  const s3 = kind !== "";
  const add = async () => {
    await api.addStore(
      s3
        ? { ...f, folder: undefined, kind: "s3", recover, private: own }
        : { name: f.name, folder: f.folder, kind: "files", recover },
    );
    void client.invalidateQueries({ queryKey: ["stores"] });
    void client.invalidateQueries({ queryKey: ["store-keys"] });
  };
  return (
    <AddForm
      add={add}
      act="Add this store"
      acting="Trying it …"
      ready={f.name !== ""}
      onDone={onDone}
    >
      <Field
        label="Name of the store"
        hint="a-z, 0-9 and hyphen"
        value={f.name}
        onChange={set("name")}
        autoComplete="off"
      />
      <Choice
        label="Where"
        all="a folder of the service’s machine"
        options={["an S3-compatible store"]}
        value={kind}
        onChange={setKind}
      />
      {!s3 && (
        <Field
          label="Folder"
          hint="On another disk, or of another machine, such as /mnt/granary/reshard"
          value={f.folder}
          onChange={set("folder")}
        />
      )}
      {s3 && (
        <>
          <Field
            label="Address"
            hint="Such as https://s3.example"
            value={f.endpoint}
            onChange={set("endpoint")}
          />
          <Field
            label="Bucket"
            value={f.bucket}
            onChange={set("bucket")}
          />
          <Field
            label="What names begin with"
            hint="Left empty: nothing"
            value={f.prefix}
            onChange={set("prefix")}
          />
          <Field
            label="Id of the access key"
            value={f.user}
            onChange={set("user")}
            autoComplete="off"
          />
          <Field
            label="Secret of the access key"
            type="password"
            hint="It is kept encrypted and never shown again."
            value={f.secret}
            onChange={set("secret")}
            autoComplete="off"
          />
          <Switch
            isSelected={own}
            onChange={setOwn}
          >
            Its address may be one of a private network
          </Switch>
        </>
      )}
      <Switch
        isSelected={recover}
        onChange={setRecover}
      >
        It holds what another vault has sent there: I want it back here
      </Switch>
      <p className="wide">
        ! What goes there is encrypted with a key in a file of the service’s data folder. Lose that file with
        the machine, and nobody can read the store: copy it elsewhere at once.
      </p>
    </AddForm>
  );
}

function Targets() {
  const targets = useQuery(queries.targets());
  const [adding, setAdding] = useState(false);
  return (
    <Panel>
      <h2>Who is told</h2>
      <Muted>When something needs a person: once, and again when it is well.</Muted>
      {targets.isError && <Failure error={targets.error} />}
      <ul aria-live="polite">
        {targets.data?.map((t) => (
          <TargetItem
            key={t.name}
            target={t}
          />
        ))}
      </ul>
      {adding ? (
        <AddTarget onDone={() => setAdding(false)} />
      ) : (
        <p style={{ marginTop: "0.7rem" }}>
          <Button onPress={() => setAdding(true)}>Tell somebody …</Button>
        </p>
      )}
    </Panel>
  );
}

function TargetItem({ target: t }: { target: NoticeTarget }) {
  const client = useQueryClient();
  const settled = () => client.invalidateQueries({ queryKey: ["targets"] });
  const attempt = useMutation({ mutationFn: () => api.tryTarget(t.name), onSettled: settled });
  const remove = useMutation({ mutationFn: () => api.removeTarget(t.name), onSettled: settled });
  return (
    <Item>
      <p>
        <Mark
          of={t.trouble ? "blocks" : "done"}
          quiet
        >
          <strong>{t.name}</strong>
        </Mark>{" "}
        by {t.kind}: <code>{t.kind === "mail" ? t.to.join(", ") : t.url}</code>
      </p>
      <Muted>{t.trouble || (t.told ? `Last told on ${when(t.told)}.` : "Not told anything yet.")}</Muted>
      <div className="acts">
        <Button
          isDisabled={attempt.isPending}
          onPress={() => attempt.mutate()}
        >
          Try it
        </Button>
        <Button
          isDisabled={remove.isPending}
          onPress={() => remove.mutate()}
        >
          Tell {t.name} nothing any more
        </Button>
      </div>
      {attempt.isSuccess && <output>It was told: look whether it arrived.</output>}
      {attempt.isError && <Failure error={attempt.error} />}
      {remove.isError && <Failure error={remove.error} />}
    </Item>
  );
}

function AddTarget({ onDone }: { onDone: () => void }) {
  const client = useQueryClient();
  const [kind, setKind] = useState("");
  const [f, setF] = useState({ name: "", url: "", server: "", user: "", from: "", to: "", secret: "" });
  const [own, setOwn] = useState(false);
  const set = (key: keyof typeof f) => (v: string) => setF((old) => ({ ...old, [key]: v }));
  const mail = kind !== "";
  const add = async () => {
    await api.addTarget(
      mail
        ? {
            name: f.name,
            kind: "mail",
            server: f.server,
            from: f.from,
            to: f.to.split(/[\s,]+/).filter(Boolean),
            user: f.user || undefined,
            secret: f.secret || undefined,
            private: own,
          }
        : { name: f.name, kind: "webhook", url: f.url, secret: f.secret, private: own },
    );
    void client.invalidateQueries({ queryKey: ["targets"] });
  };
  return (
    <AddForm
      add={add}
      act="Tell from now on"
      acting="Telling it so …"
      ready={f.name !== ""}
      onDone={onDone}
    >
      <Field
        label="Name of who is told"
        hint="a-z, 0-9 and hyphen"
        value={f.name}
        onChange={set("name")}
        autoComplete="off"
      />
      <Choice
        label="How"
        all="by webhook"
        options={["by mail"]}
        value={kind}
        onChange={setKind}
      />
      {mail ? (
        <>
          <Field
            label="Mail addresses"
            value={f.to}
            onChange={set("to")}
          />
          <Field
            label="Mail server"
            hint="Over TLS, such as mail.example:465"
            value={f.server}
            onChange={set("server")}
          />
          <Field
            label="From"
            value={f.from}
            onChange={set("from")}
          />
          <Field
            label="Account at the server"
            hint="Left empty: none"
            value={f.user}
            onChange={set("user")}
            autoComplete="off"
          />
        </>
      ) : (
        <Field
          label="Address of the webhook"
          hint="Such as https://hooks.example/reshard"
          value={f.url}
          onChange={set("url")}
        />
      )}
      <Field
        label={mail ? "Password of the account" : "Secret that notices are signed with"}
        type="password"
        hint="It is kept encrypted and never shown again."
        value={f.secret}
        onChange={set("secret")}
        autoComplete="off"
      />
      <Switch
        isSelected={own}
        onChange={setOwn}
      >
        Its address may be one of a private network
      </Switch>
    </AddForm>
  );
}
