// The board of a change: a lane for each member along the time, and beneath it what clients notice, expected and measured.
import { useQuery } from "@tanstack/react-query";
import { useRef, useState, type KeyboardEvent } from "react";
import { Link } from "react-router-dom";
import { api, ask, type Change, type S } from "../shared/api";
import { duration, span } from "../shared/format";
import { Badge, Card, Mark, Muted, Trouble } from "../shared/ui";
import { affected, lanesOf, next, noticed, spanOf, type Bar, type Lane } from "./layout";

type Timeline = S["Timeline"];

export function Board({ c, now }: { c: Change; now: number }) {
  const timeline = useQuery({
    queryKey: ["timeline", c.id, c.startedAt ? c.state : ""],
    queryFn: () => ask(api.GET("/changes/{id}/timeline", { params: { path: { id: c.id } } })),
    refetchInterval: c.startedAt && !c.endedAt ? 1000 : false,
  });
  if (!timeline.data) return <Trouble error={timeline.error} />;
  const t = timeline.data;
  const gone = c.startedAt ? (Math.min(c.endedAt ? Date.parse(c.endedAt) : now) - Date.parse(c.startedAt)) / 1000 : 0;
  const hit = c.startedAt && !c.endedAt ? affected(t) : [];
  return (
    <Card
      title={c.ensemble ? "Board" : "Along the time"}
      aside={
        <span className="text-xs text-slate-600 dark:text-slate-400">
          {duration(t.expected.seconds)} expected
          {t.measured && `, ${duration(t.measured.seconds)} ${c.endedAt ? "measured" : "so far"}`}{" "}
          <a className="ml-2 underline" href={`/api/v1/changes/${c.id}/forecast?format=html`} target="_blank">
            Print
          </a>{" "}
          <a className="underline" href={`/api/v1/changes/${c.id}/forecast?format=pdf`}>
            PDF
          </a>
        </span>
      }
    >
      {c.concerns?.map((text) => (
        <p key={text} className="mb-1">
          {text}.
        </p>
      ))}
      {c.proof && <Proof of={c.proof} />}
      {c.halfWay && (
        <p role="status" className="mb-2">
          <b>How it goes on from here:</b> {c.halfWay}.
        </p>
      )}
      <Lanes c={c} t={t} now={gone} />
      <Probes of={t.probes ?? []} />
      {c.startedAt && !c.endedAt && (
        <p role="status" id="affected" className="mt-2">
          <b>Affected now:</b> {hit.length ? hit.join("; ") : "nobody, as far as the catalogue says"}
        </p>
      )}
      <Legend />
    </Card>
  );
}

/** Whether the order of the steps is proved; if not, what it can come to. */
function Proof({ of }: { of: S["Proof"] }) {
  if (of.text)
    return (
      <div
        role="alert"
        id="proof"
        className="mb-2 rounded-md border border-rose-700/40 bg-rose-50 p-3 dark:bg-rose-950/40"
      >
        <p className="flex items-center gap-2 font-semibold">
          <Mark state="failed" /> Not safe: {of.text}
        </p>
        <p>It has to hold that {of.rule}. It comes to that by:</p>
        <ol className="ml-5 list-decimal">
          {(of.trace ?? []).map((line, i) => (
            <li key={i}>{line}</li>
          ))}
        </ol>
      </div>
    );
  return (
    <p id="proof" className="mb-2 flex items-center gap-2">
      <Mark state={of.proved ? "done" : "asking"} />
      {of.proved
        ? `The order is proved: ${of.states} states were walked, with every single failure.`
        : `The order is not proved: ${of.gaveUp}`}
    </p>
  );
}

function Lanes({ c, t, now }: { c: Change; t: Timeline; now: number }) {
  const lanes = lanesOf(c, t);
  const total = spanOf(t);
  const [[lane, bar], setAt] = useState<[number, number]>([0, 0]);
  const refs = useRef(new Map<string, HTMLButtonElement>());
  const at = (s: number) => `${(100 * Math.min(s, total)) / total}%`;
  const move = (e: KeyboardEvent) => {
    const to = next(lanes, lane, bar, e.key);
    if (to[0] === lane && to[1] === bar) return;
    e.preventDefault();
    setAt(to);
    refs.current.get(to.join(" "))?.focus();
  };
  const chosen = lanes[lane]?.bars[bar];
  return (
    <div className="min-w-[44rem]">
      <Axis total={total} />
      <div role="group" aria-label="Lanes; arrow keys go from step to step">
        {lanes.map((l, i) => (
          <div key={l.member} data-lane={l.device} className="grid grid-cols-[13rem_1fr] items-center gap-2 py-1">
            <div className="leading-tight">
              <Link className="font-semibold underline decoration-brass underline-offset-4" to={`/devices/${l.device}`}>
                {l.device}
              </Link>
              <span className="block text-xs text-slate-600 dark:text-slate-400">{l.stands}</span>
            </div>
            <ol className="relative h-9 rounded-sm bg-slate-100 dark:bg-slate-800" aria-label={`Steps of ${l.device}`}>
              {l.bars.map((b, k) => (
                <li key={b.step.number}>
                  <button
                    type="button"
                    ref={(e) => void (e ? refs.current.set(`${i} ${k}`, e) : refs.current.delete(`${i} ${k}`))}
                    tabIndex={i === lane && k === bar ? 0 : -1}
                    onFocus={() => setAt([i, k])}
                    onKeyDown={move}
                    onClick={() => setAt([i, k])}
                    aria-label={told(b)}
                    title={told(b)}
                    data-state={b.step.state}
                    className={`absolute top-0 h-5 min-w-1 border-r border-white dark:border-night ${look(b)} ${b === chosen ? "z-10 outline-2 outline-brass" : ""}`}
                    style={{ left: at(b.from), width: at(b.to - b.from) }}
                  />
                  {b.measured && (
                    <span
                      aria-hidden
                      className="absolute bottom-1 h-2 min-w-px bg-slate-600 dark:bg-slate-300"
                      style={{ left: at(b.measured.from), width: at(b.measured.to - b.measured.from) }}
                    />
                  )}
                </li>
              ))}
              {c.startedAt && !c.endedAt && (
                <span
                  aria-hidden
                  className="absolute -top-1 -bottom-1 w-0.5 bg-brass dark:bg-brasslight"
                  style={{ left: at(now) }}
                />
              )}
            </ol>
          </div>
        ))}
      </div>
      {chosen && <Chosen c={c} b={chosen} lanes={lanes} />}
      <Clients t={t} at={at} />
    </div>
  );
}

function Axis({ total }: { total: number }) {
  return (
    <div aria-hidden className="grid grid-cols-[13rem_1fr] gap-2 text-xs text-slate-600 dark:text-slate-400">
      <span />
      <span className="flex justify-between">
        {[0, 0.25, 0.5, 0.75, 1].map((f) => (
          <span key={f}>{f ? duration(total * f) : "start"}</span>
        ))}
      </span>
    </div>
  );
}

/** A bar in words. */
function told(b: Bar): string {
  const took = b.measured ? `, took ${duration(b.measured.to - b.measured.from)}` : "";
  return `Step ${b.step.number}, ${b.step.title}: ${b.step.state}, ${span(b.step.low, b.step.high)} expected from ${duration(b.from)} on${took}`;
}

const stripes =
  "bg-[repeating-linear-gradient(135deg,transparent_0_4px,rgb(255_255_255/0.55)_4px_8px)] dark:bg-[repeating-linear-gradient(135deg,transparent_0_4px,rgb(0_0_0/0.45)_4px_8px)]";

/** Every state has a shape of its own; colour only helps. */
function look(b: Bar): string {
  switch (b.step.state) {
    case "done":
      return "bg-teal-700 dark:bg-teal-400";
    case "running":
      return `bg-sky-600 ${stripes}`;
    case "failed":
      return "bg-rose-700 rounded-full";
    case "skipped":
      return "border border-dotted border-slate-400 bg-transparent";
  }
  return b.down
    ? `bg-amber-500 ${stripes}`
    : "bg-slate-300 border-y border-slate-400 dark:bg-slate-600 dark:border-slate-500";
}

/** What is known of the step that the keyboard or the mouse stands on. */
function Chosen({ c, b, lanes }: { c: Change; b: Bar; lanes: Lane[] }) {
  const own = lanes.find((l) => l.bars.includes(b));
  const waits = (b.step.after ?? [])
    .map((n) => c.steps.find((s) => s.number === n))
    .filter((s) => s && (s.member ?? 0) !== (b.step.member ?? 0))
    .map(
      (s) =>
        `step ${s!.number}, ${s!.title} (${c.members?.find((m) => m.number === s!.member)?.device ?? "the whole"})`,
    );
  return (
    <p id="chosen" aria-live="polite" className="mt-1 border-l-2 border-brass pl-2">
      <b>
        {own?.device}, step {b.step.number}: {b.step.title}
      </b>{" "}
      <Badge state={b.step.state}>{b.step.state}</Badge> {span(b.step.low, b.step.high)} expected
      {b.measured && <>, {duration(b.measured.to - b.measured.from)} measured</>}
      {b.down && <>; the member serves nobody meanwhile</>}
      {waits.length > 0 && <>; it waits for {waits.join(" and ")}</>}
      {(b.step.note || b.step.outcome) && <Muted className="block">{b.step.note || b.step.outcome}</Muted>}
    </p>
  );
}

function Clients({ t, at }: { t: Timeline; at: (s: number) => string }) {
  if (t.expected.clients.length === 0)
    return <p className="mt-2">What clients notice is not known: the catalogue says nothing of these hops.</p>;
  return (
    <ul className="mt-3" aria-label="What clients notice, expected and measured">
      {t.expected.clients.map((n) => {
        const m = t.measured?.clients.find((x) => x.clients === n.clients);
        const unknown = n.parts.some((p) => p.effect === "unknown");
        return (
          <li key={n.clients} data-clients={n.clients} className="grid grid-cols-[13rem_1fr] items-center gap-2 py-1">
            <div className="leading-tight">
              <b>{n.clients}</b>
              <span className="block text-xs text-slate-600 dark:text-slate-400">
                interruption: {unknown ? "not known" : n.outage ? `${duration(n.outage)} expected` : "none expected"}
                {m && (m.outage ? `, ${duration(m.outage)} measured` : ", none measured")}
              </span>
            </div>
            <div
              className="relative h-5 rounded-sm bg-teal-100 dark:bg-teal-950"
              title="expected above, measured below"
            >
              {n.parts.map((p, i) => (
                <Part key={i} p={p} at={at} row="top-0" />
              ))}
              {(m?.parts ?? []).map((p, i) => (
                <Part key={`m${i}`} p={p} at={at} row="bottom-0" />
              ))}
              <span className="sr-only">
                {n.parts
                  .map((p) => `${noticed[p.effect]} from ${duration(p.from)} to ${duration(p.to)}, ${p.text}`)
                  .join("; ") || "nothing is noticed"}
              </span>
            </div>
          </li>
        );
      })}
    </ul>
  );
}

/** What was asked from outside all the time, and how it answered. */
function Probes({ of }: { of: S["Probe"][] }) {
  return of.map((p) => (
    <p key={p.device + p.target} data-probe={p.target} className="mt-1 flex flex-wrap items-center gap-2">
      <Mark state={p.asked === 0 ? "waiting" : p.lost || p.unwatched ? "held" : "done"} />
      Measured at <span className="font-mono">{p.target}</span> of {p.device}:{" "}
      {p.asked === 0
        ? "not asked yet"
        : p.lost === 0
          ? `no interruption, ${p.asked} times asked`
          : `${p.gaps.length} ${p.gaps.length === 1 ? "interruption" : "interruptions"}, the longest ${p.longest.toFixed(1)} s; ${p.lost} of ${p.asked} did not answer`}
      {p.unwatched > 0 && `; nobody asked for ${p.unwatched.toFixed(1)} s, so that is not known`}
    </p>
  ));
}

function Part({ p, at, row }: { p: S["TimelinePart"]; at: (s: number) => string; row: string }) {
  const looks = {
    outage: "bg-rose-700",
    degraded: `bg-amber-500 ${stripes}`,
    unknown: "border border-dashed border-slate-600 bg-white dark:border-slate-300 dark:bg-night",
  };
  return (
    <span
      title={`${noticed[p.effect]}: ${p.text}`}
      className={`absolute h-2.5 min-w-1 ${row} ${looks[p.effect]}`}
      style={{ left: at(p.from), width: at(p.to - p.from) }}
    />
  );
}

function Legend() {
  const items: [string, string][] = [
    ["bg-teal-700 dark:bg-teal-400", "done"],
    [`bg-sky-600 ${stripes}`, "running"],
    ["bg-slate-300 border-y border-slate-400 dark:bg-slate-600", "to come"],
    [`bg-amber-500 ${stripes}`, "to come, the member is down; of clients: less than usual"],
    ["bg-rose-700 rounded-full", "failed; of clients, square: interrupted"],
    ["h-2! bg-slate-600 dark:bg-slate-300", "as measured"],
  ];
  return (
    <ul aria-label="Legend" className="mt-3 flex flex-wrap gap-x-4 gap-y-1 text-xs text-slate-600 dark:text-slate-400">
      {items.map(([shape, words]) => (
        <li key={words} className="flex items-center gap-1.5">
          <span aria-hidden className={`inline-block h-3 w-5 ${shape}`} /> {words}
        </li>
      ))}
    </ul>
  );
}
