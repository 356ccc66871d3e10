// The path explorer: portrait and aim typed in, the ways drawn on the lines of the trains.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router-dom";
import { api, ask, type Family, type PaperAim } from "../shared/api";
import { span } from "../shared/format";
import { HopList, NoPath } from "./pathline";
import { Trains } from "./trains";
import { Badge, Button, Card, Field, Pick, Trouble, Waiting } from "../shared/ui";

type Member = { name: string; model: string; version: string };

export function PathsPage() {
  const catalogue = useQuery({ queryKey: ["catalogue"], queryFn: () => ask(api.GET("/catalogue")) });
  const [given, setGiven] = useSearchParams();
  const name =
    given.get("family") ??
    catalogue.data?.items.find((f) => f.models.includes(given.get("model") ?? ""))?.family ??
    catalogue.data?.items[0]?.family;
  const family = useQuery({
    queryKey: ["family", name],
    enabled: !!name,
    queryFn: () => ask(api.GET("/families/{family}", { params: { path: { family: name! } } })),
  });
  return (
    <>
      <h1 className="text-lg font-bold">Paths on paper</h1>
      <Trouble error={catalogue.error ?? family.error} />
      {catalogue.data?.items.length === 0 && <p>No catalogue is loaded yet.</p>}
      {catalogue.data && (
        <div className="flex flex-wrap gap-1" role="group" aria-label="Family">
          {catalogue.data.items.map((f) => (
            <Button
              key={f.family}
              aria-pressed={f.family === name}
              kind={f.family === name ? "main" : "plain"}
              onClick={() => setGiven({ family: f.family })}
            >
              {f.maker}
            </Button>
          ))}
        </div>
      )}
      {family.isPending && !!name && <Waiting />}
      {family.data && (
        <Explorer
          key={family.data.name}
          family={family.data}
          model={given.get("model") ?? undefined}
          from={given.get("from") ?? undefined}
        />
      )}
    </>
  );
}

const list = (s: string) =>
  s
    .split(",")
    .map((w) => w.trim())
    .filter(Boolean);

function Explorer({ family, model: givenModel, from: givenFrom }: { family: Family; model?: string; from?: string }) {
  const [model, setModel] = useState(
    givenModel && family.models.some((m) => m.name === givenModel) ? givenModel : family.models[0].name,
  );
  const runnable = family.releases.filter((r) => r.models.includes(model));
  const [from, setFrom] = useState(givenFrom ?? "");
  const start =
    runnable.some((r) => r.version === from) || family.releases.some((r) => r.version === from)
      ? from
      : (runnable.at(-1)?.version ?? family.releases.at(-1)!.version);
  const [aim, setAim] = useState("preferred");
  const [toModel, setToModel] = useState("");
  const [policy, setPolicy] = useState({ previews: false, reset: false, dropChildren: false });
  const [hops, setHops] = useState("");
  const [keep, setKeep] = useState("");
  const [facts, setFacts] = useState<Record<string, string>>({});
  const [uses, setUses] = useState<Record<string, string>>({});
  const [members, setMembers] = useState<Member[]>([]);
  const [picked, setPicked] = useState(0);
  const m = family.models.find((x) => x.name === model)!;
  const trains = [...new Set(family.releases.map((r) => r.train))];
  const fixes = [...new Set(family.releases.flatMap((r) => r.fixes))].sort();
  const changes = family.rules.filter((r) => r.kind === "platform-change").length > 0;

  const body: PaperAim = {
    to: aim,
    toModel: toModel || undefined,
    ...policy,
    maxHops: Number(hops) || 0,
    services: list(keep),
    alternatives: 3,
    portrait:
      members.length > 0
        ? { format: "verimorph-portrait/1", members }
        : {
            format: "verimorph-portrait/1",
            model,
            version: start,
            ...(facts.generation && { generation: facts.generation }),
            ...(facts.platform && { platform: facts.platform }),
            ...(facts.fileSystem && { file_system: facts.fileSystem }),
            ...(Number(facts.memory) > 0 && { memory: Math.round(Number(facts.memory) * 2 ** 30) }),
            ...(facts.free && { storage: { flash: { free: Math.round(Number(facts.free) * 2 ** 20) } } }),
            ...(facts.licences !== undefined &&
              facts.licences !== "" && { licences: facts.licences === "none" ? [] : list(facts.licences) }),
            ...(Object.values(uses).some(Boolean) && {
              uses: Object.fromEntries(
                Object.entries(uses)
                  .filter(([, v]) => v)
                  .map(([k, v]) => [k, v === "yes"]),
              ),
            }),
            ...(facts.children && { children: list(facts.children).map((c) => ({ model: c })) }),
          },
  };
  const path = useQuery({
    queryKey: ["paper", body],
    placeholderData: (old) => old,
    queryFn: () => ask(api.POST("/paths", { body })),
  });
  const p = path.data;
  const shown = p && picked > 0 && p.alternatives[picked - 1] ? { ...p, hops: p.alternatives[picked - 1].hops } : p;
  const set = (key: string) => (e: { target: { value: string } }) => {
    setFacts({ ...facts, [key]: e.target.value });
    setPicked(0);
  };

  return (
    <>
      <Card title="What it is, and where it should go">
        <div className="grid grid-cols-2 gap-3 md:grid-cols-4 lg:grid-cols-6">
          <Pick
            id="model"
            label="Model"
            value={model}
            onChange={(v) => {
              setModel(v);
              setFrom("");
              setPicked(0);
            }}
          >
            {family.models.map((x) => (
              <option key={x.name} value={x.name}>
                {x.name}
              </option>
            ))}
          </Pick>
          <Pick
            id="from"
            label="Runs now"
            value={start}
            onChange={(v) => {
              setFrom(v);
              setPicked(0);
            }}
          >
            {family.releases.map((r) => (
              <option key={r.version} value={r.version}>
                {r.version}
                {r.stage !== "general" ? ` (${r.stage})` : ""}
              </option>
            ))}
          </Pick>
          <Pick
            id="to"
            label="Aim"
            value={aim}
            onChange={(v) => {
              setAim(v);
              setPicked(0);
            }}
          >
            <option value="preferred">newest preferred</option>
            <option value="newest">newest it may run</option>
            <optgroup label="Train">
              {trains.map((t) => (
                <option key={t} value={`train:${t}`}>
                  train {t}
                </option>
              ))}
            </optgroup>
            {fixes.length > 0 && (
              <optgroup label="Oldest that fixes">
                {fixes.map((f) => (
                  <option key={f} value={`fixes:${f}`}>
                    {f}
                  </option>
                ))}
              </optgroup>
            )}
            <optgroup label="Release">
              {family.releases.map((r) => (
                <option key={r.version} value={r.version}>
                  {r.version}
                </option>
              ))}
            </optgroup>
          </Pick>
          {changes && (
            <Pick label="Ends as" value={toModel} onChange={setToModel}>
              <option value="">{model}</option>
              {family.models
                .filter((x) => x.name !== model)
                .map((x) => (
                  <option key={x.name} value={x.name}>
                    {x.name}
                  </option>
                ))}
            </Pick>
          )}
          <Field
            label="At most so many hops"
            inputMode="numeric"
            value={hops}
            placeholder="any"
            onChange={(e) => setHops(e.target.value.replace(/\D/g, ""))}
          />
          {family.services.length > 0 && (
            <Pick label="Must keep working" value={keep} onChange={setKeep}>
              <option value="">nothing in particular</option>
              {family.services.map((s) => (
                <option key={s.id} value={s.id}>
                  {s.id}
                </option>
              ))}
            </Pick>
          )}
        </div>
        <div className="mt-3 flex flex-wrap gap-x-5 gap-y-1">
          {(
            [
              ["reset", "the configuration may be reset"],
              ["previews", "previews may be used"],
              ["dropChildren", "child models may be dropped"],
            ] as const
          ).map(([key, text]) => (
            <label key={key} className="flex items-center gap-1.5">
              <input
                type="checkbox"
                checked={policy[key]}
                onChange={(e) => {
                  setPolicy({ ...policy, [key]: e.target.checked });
                  setPicked(0);
                }}
              />{" "}
              {text}
            </label>
          ))}
        </div>
        <details className="mt-3">
          <summary className="cursor-pointer font-medium">What else is known about it</summary>
          <div className="mt-2 grid grid-cols-2 gap-3 md:grid-cols-4 lg:grid-cols-6">
            {m.generations.length > 0 && (
              <Pick
                label="Hardware generation"
                value={facts.generation ?? ""}
                onChange={(v) => set("generation")({ target: { value: v } })}
              >
                <option value="">not known</option>
                {m.generations.map((g) => (
                  <option key={g}>{g}</option>
                ))}
              </Pick>
            )}
            <Field
              label="Memory, GiB"
              inputMode="decimal"
              value={facts.memory ?? ""}
              onChange={set("memory")}
              placeholder="not known"
            />
            <Field
              label="Free storage, MiB"
              inputMode="decimal"
              value={facts.free ?? ""}
              onChange={set("free")}
              placeholder="not known"
            />
            <Field
              label="Licences"
              value={facts.licences ?? ""}
              onChange={set("licences")}
              placeholder="not known; or none"
            />
            <Field label="Platform" value={facts.platform ?? ""} onChange={set("platform")} placeholder="not known" />
            <Field
              label="File system"
              value={facts.fileSystem ?? ""}
              onChange={set("fileSystem")}
              placeholder="not known"
            />
            <Field label="Child models" value={facts.children ?? ""} onChange={set("children")} placeholder="none" />
            {family.conditions.map((c) => (
              <Pick
                key={c.id}
                label={c.text}
                value={uses[c.id] ?? ""}
                onChange={(v) => setUses({ ...uses, [c.id]: v })}
              >
                <option value="">not known</option>
                <option value="yes">yes</option>
                <option value="no">no</option>
              </Pick>
            ))}
          </div>
          <Members
            family={family}
            members={members}
            start={{ name: `${model.toLowerCase()}-1`, model, version: start }}
            onChange={(ms) => {
              setMembers(ms);
              setPicked(0);
            }}
          />
        </details>
      </Card>
      <Trouble error={path.error} />
      {p && !p.found && <NoPath path={p} />}
      {p?.found && p.hops.length === 0 && (
        <p>
          It runs {p.to} already{p.aim && `: ${p.aim}`}.
        </p>
      )}
      <Card
        title={
          p?.found && p.hops.length > 0 ? (
            <>
              To <span className="font-mono">{p.to}</span>
              {p.aim && `, ${p.aim}`}: {p.hops.length} {p.moves ? "moves" : p.hops.length === 1 ? "hop" : "hops"},{" "}
              {span(total(shown!.hops, "low"), total(shown!.hops, "high"))}
            </>
          ) : (
            family.title
          )
        }
        aside={
          p &&
          p.alternatives.length > 0 && (
            <span className="flex gap-1" role="group" aria-label="Ways">
              {["best way", ...p.alternatives.map((_, i) => `other way ${i + 1}`)].map((word, i) => (
                <Button
                  key={i}
                  kind={i === picked ? "main" : "plain"}
                  aria-pressed={i === picked}
                  className="!px-2 !py-0.5 text-xs"
                  onClick={() => setPicked(i)}
                >
                  {word}
                </Button>
              ))}
            </span>
          )
        }
      >
        <Trains
          family={family}
          model={model}
          path={p?.found ? p : undefined}
          from={members.length ? undefined : start}
          picked={picked}
          onPick={setPicked}
        />
        {p?.found && p.hops.length > 0 && (
          <p className="mt-1 text-xs text-slate-600 dark:text-slate-400">
            Times are at the devices' own pace{p.moves && ", members one after the other"}.
          </p>
        )}
        {p && picked > 0 && <p className="mt-2">This way {p.alternatives[picked - 1]?.why}.</p>}
      </Card>
      {shown && shown.hops.length > 0 && (
        <Card title="Hop by hop">
          <HopList path={shown} />
          {p!.notes.map((n, i) => (
            <p key={i} className="mt-3 text-slate-600 dark:text-slate-400">
              {n}
            </p>
          ))}
        </Card>
      )}
    </>
  );
}

const total = (hops: { low: number; high: number }[], key: "low" | "high") => hops.reduce((s, h) => s + h[key], 0);

function Members({
  family,
  members,
  start,
  onChange,
}: {
  family: Family;
  members: Member[];
  start: Member;
  onChange: (ms: Member[]) => void;
}) {
  const change = (i: number, part: Partial<Member>) =>
    onChange(members.map((m, k) => (k === i ? { ...m, ...part } : m)));
  return (
    <div className="mt-3 space-y-2">
      {members.length > 0 && (
        <p>
          <Badge state="running">ensemble</Badge> Its members move one after the other; only versions that the maker
          tolerates stand side by side.
        </p>
      )}
      {members.map((m, i) => (
        <div key={i} className="flex flex-wrap items-end gap-3">
          <Field label="Member" value={m.name} onChange={(e) => change(i, { name: e.target.value })} />
          <Pick label="Model" value={m.model} onChange={(v) => change(i, { model: v })}>
            {family.models.map((x) => (
              <option key={x.name}>{x.name}</option>
            ))}
          </Pick>
          <Pick label="Runs now" value={m.version} onChange={(v) => change(i, { version: v })}>
            {family.releases.map((r) => (
              <option key={r.version}>{r.version}</option>
            ))}
          </Pick>
          <Button onClick={() => onChange(members.filter((_, k) => k !== i))}>Remove</Button>
        </div>
      ))}
      <Button
        onClick={() =>
          onChange([
            ...members,
            members.length
              ? { ...members.at(-1)!, name: `${members.at(-1)!.model.toLowerCase()}-${members.length + 1}` }
              : start,
          ])
        }
      >
        {members.length ? "Add a member" : "It is an ensemble"}
      </Button>
    </div>
  );
}
