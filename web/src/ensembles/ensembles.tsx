// Devices that depend on each other: as they are declared, what speaks against it, and what devices say they form.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router-dom";
import { api, ask, newKey, type S } from "../shared/api";
import { ChooseDevice } from "../shared/choose";
import { Badge, Button, Card, Field, Form, Mark, Muted, Pick, subject, Trouble } from "../shared/ui";

type Ensemble = S["Ensemble"];

export function EnsemblesCard() {
  const [drafting, setDrafting] = useState<string | null>(null);
  const [leaving, setLeaving] = useState<string | null>(null);
  const [declaring, setDeclaring] = useState(false);
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["ensembles"], queryFn: () => ask(api.GET("/ensembles")), refetchInterval: 3000 });
  const found = useQuery({
    queryKey: ["found-ensembles"],
    queryFn: () => ask(api.GET("/found-ensembles")),
    refetchInterval: 10000,
  });
  const again = () => {
    queries.invalidateQueries({ queryKey: ["ensembles"] });
    queries.invalidateQueries({ queryKey: ["found-ensembles"] });
    queries.invalidateQueries({ queryKey: ["devices"] });
  };
  const forget = useMutation({
    mutationFn: (name: string) => ask(api.DELETE("/ensembles/{name}", { params: { path: { name } } })),
    onSuccess: () => {
      setLeaving(null);
      again();
    },
  });
  return (
    <Card
      title="Ensembles"
      aside={
        <Button id="declare-ensemble" onClick={() => setDeclaring(true)}>
          Declare one
        </Button>
      }
    >
      {!list.data?.items.length && !found.data?.items.length && (
        <p>
          None is declared, and no device says that it is one of several. Declare devices that stand in for each other:
          a change takes them one after the other then.
        </p>
      )}
      <table className="w-full" hidden={!list.data?.items.length}>
        <thead>
          <tr>
            <th>Ensemble</th>
            <th>Member</th>
            <th>Role</th>
            <th>Runs</th>
            <th>Sync</th>
            <th className="sr-only">What can be done</th>
          </tr>
        </thead>
        {(list.data?.items ?? []).map((e) => (
          <tbody key={e.name} data-ensemble={e.name} className="border-t border-line dark:border-nightline">
            {e.members.map((m, i) => (
              <tr key={m.device}>
                <td className="align-top">
                  {i === 0 && (
                    <>
                      <b>{e.name}</b> <Muted>{e.kind}</Muted>
                    </>
                  )}
                </td>
                <td>
                  <Link className={subject} to={`/devices/${m.device}`}>
                    {m.device}
                  </Link>
                </td>
                <td>
                  <Badge state={m.serves ? "ready" : m.role ? "rest" : "not known"}>{m.role ?? "not known"}</Badge>
                </td>
                <td className="font-mono">{m.version ?? "not seen yet"}</td>
                <td>
                  <Synced m={m} />
                </td>
                <td className="text-right">
                  {i === 0 && (
                    <span className="inline-flex gap-2">
                      {e.openChange ? (
                        <Link to={`/changes/${e.openChange}`}>
                          <Badge state="running">change {e.openChange}</Badge>
                        </Link>
                      ) : (
                        <Button aria-label={`Draft a change of ${e.name}`} onClick={() => setDrafting(e.name)}>
                          Draft a change
                        </Button>
                      )}
                      <Button aria-label={`Forget ${e.name}`} onClick={() => setLeaving(e.name)}>
                        Forget
                      </Button>
                    </span>
                  )}
                </td>
              </tr>
            ))}
            <Findings e={e} />
          </tbody>
        ))}
      </table>
      {(found.data?.items ?? []).map((f) => (
        <Proposal key={f.devices.join()} f={f} onDone={again} />
      ))}
      <Trouble error={list.error ?? found.error} />
      <DeclareForm
        open={declaring}
        onClose={() => setDeclaring(false)}
        onDone={() => {
          setDeclaring(false);
          again();
        }}
      />
      <DraftForm name={drafting} onClose={() => setDrafting(null)} />
      <Form
        open={leaving !== null}
        onClose={() => setLeaving(null)}
        title={`Forget ${leaving}`}
        action="Forget"
        kind="risk"
        cancel="Not now"
        request={forget}
        onSubmit={() => forget.mutate(leaving!)}
      >
        <p>Its devices stay. A change of one of them is then a change of that device alone.</p>
      </Form>
    </Card>
  );
}

function Synced({ m }: { m: S["EnsembleMember"] }) {
  const state = m.inSync === undefined ? "not known" : m.inSync ? "in sync" : "not in sync";
  return (
    <span className="flex items-center gap-2">
      <Mark state={m.inSync ? "done" : "held"} /> {state}
      {m.sync && <Muted>{m.sync}</Muted>}
    </span>
  );
}

function Findings({ e }: { e: Ensemble }) {
  if (!e.findings.length) return null;
  return (
    <tr>
      <td colSpan={6}>
        <ul>
          {e.findings.map((f) => (
            <li key={f.text} className="flex items-start gap-2">
              <Mark state={f.wrong ? "failed" : "held"} />
              <span>
                {f.wrong ? "Wrong" : "Doubt"}: {f.text}. <Muted>To do: {f.remedy}</Muted>
              </span>
            </li>
          ))}
        </ul>
      </td>
    </tr>
  );
}

/** What devices say they form, and is not declared so. */
function Proposal({ f, onDone }: { f: S["FoundEnsemble"]; onDone: () => void }) {
  const declare = useMutation({
    mutationFn: () =>
      ask(
        api.PUT("/ensembles/{name}", {
          params: { path: { name: f.name } },
          body: { kind: f.kind, devices: f.devices },
        }),
      ),
    onSuccess: onDone,
  });
  return (
    <div
      data-found={f.name}
      className="flex flex-wrap items-center gap-3 border-t border-line pt-2 dark:border-nightline"
    >
      <span>
        {f.devices.join(" and ")} {f.devices.length > 1 ? "say" : "says"} that they are a {f.kind}.
        {f.doubts.map((d) => (
          <span key={d} className="block">
            <Mark state="held" /> Doubt: {d}
          </span>
        ))}
      </span>
      {f.doubts.length === 0 && (
        <Button disabled={declare.isPending} onClick={() => declare.mutate()}>
          Declare as {f.name}
        </Button>
      )}
      <Trouble error={declare.error} />
    </div>
  );
}

/** Declares an ensemble by hand. What its devices say otherwise is told afterwards, beside it. */
function DeclareForm({ open, onClose, onDone }: { open: boolean; onClose: () => void; onDone: () => void }) {
  const [name, setName] = useState("");
  const [kind, setKind] = useState<S["EnsembleKind"]>("pair");
  const [devices, setDevices] = useState<string[]>([]);
  const declare = useMutation({
    mutationFn: () =>
      ask(
        api.PUT("/ensembles/{name}", {
          params: { path: { name: name.trim() } },
          body: { kind, devices },
        }),
      ),
    onSuccess: () => {
      setName("");
      setDevices([]);
      onDone();
    },
  });
  return (
    <Form
      open={open}
      onClose={onClose}
      title="Declare an ensemble"
      action="Declare"
      id="declare"
      ready={name.trim() !== "" && devices.length > 1}
      request={declare}
      onSubmit={() => declare.mutate()}
    >
      <Field label="Name" name="ensemble-name" value={name} onChange={(e) => setName(e.target.value)} />
      <Pick id="kind" label="Kind" value={kind} onChange={(v) => setKind(v as S["EnsembleKind"])}>
        <option value="pair">pair: one serves, the other takes over</option>
        <option value="cluster">cluster: more than half have to be up, one leads</option>
      </Pick>
      <ChooseDevice
        label="Add a device"
        value=""
        onChange={(d) => setDevices((was) => (was.includes(d) ? was : [...was, d]))}
      />
      <ul aria-label="Members">
        {devices.map((d) => (
          <li key={d} className="flex items-center gap-2">
            {d}
            <Button aria-label={`Take ${d} out`} onClick={() => setDevices((was) => was.filter((x) => x !== d))}>
              Take out
            </Button>
          </li>
        ))}
      </ul>
    </Form>
  );
}

function DraftForm({ name, onClose }: { name: string | null; onClose: () => void }) {
  const go = useNavigate();
  const [to, setTo] = useState("");
  const [switchBack, setSwitchBack] = useState(false);
  const [together, setTogether] = useState(false);
  const draft = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/changes", {
          params: { header: { "Idempotency-Key": newKey() } },
          body: { device: name!, to: to.trim(), switchBack, together },
        }),
      ),
    onSuccess: (c) => go(`/changes/${c.id}`),
  });
  return (
    <Form
      open={name !== null}
      onClose={onClose}
      title={`Draft a change of ${name}`}
      action={draft.isPending ? "Looking at all members ..." : "Draft"}
      id="draft-ensemble"
      ready={to.trim() !== "" && !draft.isPending}
      request={draft}
      onSubmit={() => draft.mutate()}
    >
      <p>All members are looked at first: who goes first depends on who serves now.</p>
      <Field
        label="To"
        name="to"
        hint="a version, preferred, newest or train:T"
        value={to}
        onChange={(e) => setTo(e.target.value)}
      />
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={switchBack} onChange={(e) => setSwitchBack(e.target.checked)} /> Whoever is
        active now is it again in the end
      </label>
      <label className="flex items-center gap-2">
        <input type="checkbox" name="together" checked={together} onChange={(e) => setTogether(e.target.checked)} /> All
        members restart together; nobody serves meanwhile, which has to be accepted
      </label>
    </Form>
  );
}
