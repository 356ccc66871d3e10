// Media that are kept to bring devices back: which devices have one, where each lies, how old it is, and what it would bring back.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link, useNavigate } from "react-router-dom";
import { api, ask, newKey, type S } from "../shared/api";
import { ChooseDevice } from "../shared/choose";
import { time } from "../shared/format";
import { Table } from "../shared/list";
import { Badge, Button, Card, Field, Form, Muted, subject, Trouble, Waiting } from "../shared/ui";
import { age, covers, summary, tone } from "./words";

type Medium = S["Medium"];
type Act = "place" | "retire";

export function MediaPage() {
  const [act, setAct] = useState<{ what: Act; of: Medium }>();
  return (
    <>
      <h1 className="text-lg font-bold">Media</h1>
      <Overview />
      <Kept onAct={(what, of) => setAct({ what, of })} />
      {act && <ActForm key={act.what + act.of.label} {...act} onClose={() => setAct(undefined)} />}
    </>
  );
}

/** Which medium would bring each device back today. */
function Overview() {
  const q = useQuery({
    queryKey: ["media", "overview"],
    queryFn: () => ask(api.GET("/media/overview")),
    refetchInterval: 30000,
  });
  const all = q.data?.items ?? [];
  return (
    <Card title="Which devices have a medium that brings them back">
      <Trouble error={q.error} />
      {q.isPending ? (
        <Waiting />
      ) : (
        <>
          <p id="without-media">{summary(all)}</p>
          <ul className="mt-2 grid gap-x-6 gap-y-1 md:grid-cols-2">
            {all.map((c) => (
              <li key={c.device} className="flex flex-wrap items-center gap-2">
                <Badge state={covers[c.state]}>{c.state}</Badge>
                <Link className={subject} to={`/devices/${c.device}`}>
                  {c.device}
                </Link>
                <Muted small>{c.state === "none" && !c.label ? c.site : `${c.label}: ${c.why}`}</Muted>
              </li>
            ))}
          </ul>
        </>
      )}
    </Card>
  );
}

function Kept({ onAct }: { onAct: (what: Act, of: Medium) => void }) {
  const list = useQuery({ queryKey: ["media"], queryFn: () => ask(api.GET("/media")), refetchInterval: 5000 });
  return (
    <Card title="Media">
      <Trouble error={list.error} />
      <Table<Medium>
        rows={list.data?.items ?? []}
        id={(m) => m.label}
        empty="No medium is kept yet."
        columns={[
          { head: "Label", cell: (m) => <b className="font-mono">{m.label}</b> },
          {
            head: "Device",
            cell: (m) => (
              <Link className={subject} to={`/devices/${m.device}`}>
                {m.device}
              </Link>
            ),
          },
          { head: "Place", cell: (m) => m.place || <Muted>not said</Muted> },
          { head: "State", cell: (m) => <State m={m} /> },
          { head: "Age", cell: (m) => age(m.writtenAt, Date.now()) },
          { head: "Would bring back", cell: (m) => <Holds m={m} /> },
          {
            head: "Acts",
            bare: true,
            cell: (m) => (
              <span className="flex flex-wrap gap-2">
                <Button data-act={`place ${m.label}`} onClick={() => onAct("place", m)}>
                  It lies elsewhere
                </Button>
                <Button kind="risk" data-act={`retire ${m.label}`} onClick={() => onAct("retire", m)}>
                  Retire
                </Button>
              </span>
            ),
          },
        ]}
      />
      <Make />
    </Card>
  );
}

const State = ({ m }: { m: Medium }) => (
  <span data-medium={m.label} className="inline-flex flex-wrap items-center gap-1">
    <Badge state={tone[m.state]}>{m.state.replaceAll("-", " ")}</Badge>
    {m.change !== undefined && (m.state === "being-made" || m.state === "not-made") && (
      <Link className="underline" to={`/changes/${m.change}`}>
        change {m.change}
      </Link>
    )}
    {m.checkedAt && m.state !== "being-made" && <Muted small>{`looked at ${time(m.checkedAt)}`}</Muted>}
  </span>
);

const Holds = ({ m }: { m: Medium }) => (
  <>
    {m.model} {m.version}
    {m.backup !== undefined && (
      <>
        {", "}
        <Link className="underline" to={`/backups/${m.backup}`}>
          backup {m.backup}
        </Link>
      </>
    )}
    {[...m.problems, ...m.older].map((o) => (
      <Muted small key={o} className="block">
        {o}
      </Muted>
    ))}
  </>
);

/** Has a device write a medium. One that is made from files is made where the stick is, with the client. */
function Make() {
  const go = useNavigate();
  const [v, setV] = useState({ label: "", device: "", place: "" });
  const make = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/media", {
          params: { header: { "Idempotency-Key": newKey() } },
          body: {
            label: v.label.trim(),
            device: v.device,
            kind: "snapshot",
            place: v.place.trim() || undefined,
          },
        }),
      ),
    onSuccess: (m) => go(`/changes/${m.change}`),
  });
  const field = (name: "label" | "place", label: string, hint?: string) => (
    <Field
      name={`medium-${name}`}
      label={label}
      hint={hint}
      value={v[name]}
      onChange={(e) => setV({ ...v, [name]: e.target.value })}
    />
  );
  const submit = (e: FormEvent) => {
    e.preventDefault();
    make.mutate();
  };
  return (
    <form onSubmit={submit} className="mt-4 space-y-3 border-t border-line pt-3 dark:border-nightline">
      <h2 className="font-semibold">Have a device write a medium</h2>
      <div className="grid items-start gap-3 md:grid-cols-3">
        {field("label", "Label", "what is written on it, such as gauge-2026-11")}
        <div id="medium-device">
          <ChooseDevice label="Device" value={v.device} onChange={(device) => setV({ ...v, device })} />
        </div>
        {field("place", "Place", "where it is kept")}
      </div>
      <Trouble error={make.error} />
      <div className="flex flex-wrap items-center gap-3">
        <Button id="make-medium" kind="main" type="submit" disabled={!v.label.trim() || !v.device || make.isPending}>
          Draft it
        </Button>
        <Muted small>
          From files, where the stick is: verimorph media make LABEL -device DEVICE -folder FOLDER. When one comes back:
          verimorph media return LABEL FOLDER.
        </Muted>
      </div>
    </form>
  );
}

function ActForm({ what, of, onClose }: { what: Act; of: Medium; onClose: () => void }) {
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const act = useMutation<unknown>({
    mutationFn: () => {
      const params = { path: { label: of.label } };
      return what === "place"
        ? ask(api.POST("/media/{label}/place", { params, body: { place: text.trim() } }))
        : ask(api.POST("/media/{label}/retire", { params, body: { reason: text.trim() } }));
    },
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["media"] });
      onClose();
    },
  });
  const place = what === "place";
  return (
    <Form
      title={place ? `Where ${of.label} lies` : `Take ${of.label} out of use`}
      action={place ? "Record it" : "Retire it"}
      id="medium-act"
      kind={place ? "main" : "risk"}
      ready={text.trim().length > (place ? 0 : 2)}
      request={act}
      onSubmit={() => act.mutate()}
      onClose={onClose}
    >
      {!place && <p>It holds passwords. Destroy it.</p>}
      <Field
        name={place ? "place" : "reason"}
        label={place ? "Place" : "Why"}
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
    </Form>
  );
}
