import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useParams } from "react-router-dom";
import { useGrowing } from "../shared/list";
import { api, ask, type Action, type Change, type Step, type Verdict } from "../shared/api";
import { duration, span, time } from "../shared/format";
import { byWayOf, pathOf, purposeOf } from "./purpose";
import { Board } from "../ensembles/board";
import { ConsoleLine } from "./consoleline";
import { Attached } from "./evidence";
import { QuestionCard } from "./question";
import { ReadyCard, Redraft } from "./readiness";
import { TermsCard } from "./terms";
import { Doubts, HopList, PathLine, Refused } from "../paths/pathline";
import { Badge, Bar, Button, Card, Field, Form, Mark, Muted, Tabs, Trouble, Waiting } from "../shared/ui";

/** The change as it goes on, by server-sent events, and how far the service's clock is from ours. */
function useLive(id: number) {
  const queries = useQueryClient();
  const [away, setAway] = useState(false);
  const change = useQuery({
    queryKey: ["change", id],
    queryFn: () => ask(api.GET("/changes/{id}", { params: { path: { id } } })),
  });
  const over = !!change.data?.endedAt;
  const known = !!change.data;
  useEffect(() => {
    if (!known || over) return;
    const events = new EventSource(`/api/v1/changes/${id}/live`);
    events.addEventListener("change", (e) => {
      setAway(false);
      queries.setQueryData(["change", id], JSON.parse((e as MessageEvent<string>).data));
    });
    events.onerror = () => setAway(true); // the browser connects again by itself
    return () => events.close();
  }, [id, known, over, queries]);
  return { change, away: away && !over };
}

/** The service's time now: the clock in the last answer plus what has passed since. */
function useNow(c?: Change) {
  const [, tick] = useState(0);
  const [at, setAt] = useState({ server: 0, local: 0 });
  const over = !!c?.endedAt;
  useEffect(() => {
    if (c) setAt({ server: Date.parse(c.now), local: Date.now() });
  }, [c]);
  useEffect(() => {
    if (over) return;
    const t = setInterval(() => tick((n) => n + 1), 250);
    return () => clearInterval(t);
  }, [over]);
  return at.server + (Date.now() - at.local);
}

function fractionOf(s: Step, now: number): number {
  if (s.state === "done") return 1;
  if (s.state !== "running") return 0;
  const byTime = s.startedAt && s.high > 0 ? Math.min((now - Date.parse(s.startedAt)) / 1000 / s.high, 0.95) : 0;
  return Math.min(Math.max(s.fraction, byTime), 1);
}

export function ChangePage() {
  const id = Number(useParams().id);
  const { change, away } = useLive(id);
  const device = useQuery({
    queryKey: ["device", change.data?.device],
    enabled: !!change.data && !change.data.members,
    queryFn: () => ask(api.GET("/devices/{name}", { params: { path: { name: change.data!.device } } })),
  });
  const line = !!device.data?.reach?.console;
  const now = useNow(change.data);
  if (change.isPending) return <Waiting />;
  if (!change.data) return <Trouble error={change.error} />;
  const c = change.data;
  const total = c.steps.reduce((n, s) => n + s.high, 0);
  const done = c.steps.reduce((n, s) => n + s.high * fractionOf(s, now), 0) / Math.max(total, 0.001);
  const hops = (c.path?.hops ?? []).map((_, i) => c.steps.filter((s) => s.hop === i + 1));
  const passed = c.startedAt
    ? hops.filter((steps) => steps.find((s) => s.kind === "version")?.state === "done").length
    : -1;
  const open = hops[passed];
  const partly = open
    ? open.reduce((n, s) => n + s.high * fractionOf(s, now), 0) / open.reduce((n, s) => n + s.high, 0)
    : 0;
  const gone = c.startedAt ? (Math.min(c.endedAt ? Date.parse(c.endedAt) : now) - Date.parse(c.startedAt)) / 1000 : 0;
  // What stands in the way of a start, or of going on, comes before everything else.
  const inTheWay =
    !c.endedAt &&
    (c.startedAt
      ? c.question?.kind === "warnings"
      : (c.checks ?? []).some((k) => k.state === "stop" || (k.state === "warn" && !k.acceptedBy)));
  const purpose = purposeOf(c);
  const path = pathOf(purpose);
  const running = c.steps.find((s) => s.state === "running");
  return (
    <>
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="text-lg font-bold">Change {c.id}</h1>
        {c.members ? (
          <b>{purpose.kind === "join" || purpose.kind === "release" ? purpose.box : (c.ensemble ?? c.device)}</b>
        ) : (
          <Link className="font-semibold underline decoration-brass underline-offset-4" to={`/devices/${c.device}`}>
            {c.device}
          </Link>
        )}
        {purpose.kind === "operations" ? (
          <span>
            single operations; it runs <b className="font-mono">{purpose.runs}</b>
          </span>
        ) : purpose.kind === "restore" ? (
          <span>
            <Link className="underline" to={`/backups/${purpose.restore.backup}`}>
              backup {purpose.restore.backup}
            </Link>{" "}
            goes back{purpose.restore.replacement && ", on a replacement"}
          </span>
        ) : purpose.kind !== "firmware" && purpose.kind !== "back" ? (
          <span>{byWayOf(purpose)}</span>
        ) : (
          <span>
            from <b className="font-mono">{c.from}</b> to <b className="font-mono">{c.to}</b>
            {path && asModel(path)}
          </span>
        )}
        <span id="state">
          <Badge state={c.state}>{c.state}</Badge>
        </span>
        {c.verdict && (
          <span id="verdict">
            <Badge state={c.verdict.verdict}>verdict: {c.verdict.verdict}</Badge>
          </span>
        )}
        {away && (
          <span role="status">
            <Badge state="degraded">no answer from the service; trying again</Badge>
          </span>
        )}
        <span className="ml-auto" />
        <Actions c={c} />
      </div>
      {c.startedAt && (
        <div className="space-y-1">
          <Bar fraction={c.endedAt && c.state === "done" ? 1 : done} label="the whole change" />
          <p className="flex justify-between text-slate-600 dark:text-slate-400">
            <span>
              {duration(gone)} {c.endedAt ? "in all" : "gone"}
              {running && !c.endedAt && `: ${running.title}${running.note ? `, ${running.note}` : ""}`}
            </span>
            {!c.endedAt && c.state !== "asking" && <span>{span(c.remainingLow, c.remainingHigh)} to go</span>}
          </p>
        </div>
      )}
      {c.awaited && (
        <p role="status" id="awaited" className="flex items-center gap-2 font-medium">
          <Mark state="running" /> {duration(Math.max((now - Date.parse(c.awaited.since)) / 1000, 0))} so far,{" "}
          {span(c.awaited.low, c.awaited.high)} expected: {c.awaited.text}
        </p>
      )}
      {c.question && <QuestionCard key={`${c.question.step} ${c.question.text}`} c={c} />}
      {c.pausesAt && (
        <p role="status" className="flex items-center gap-2">
          <Mark state="asking" /> Between two installations: it cannot pause before &ldquo;{c.pausesAt}&rdquo;
          {c.pausesMost !== undefined && <>, in {duration(c.pausesMost)} at most</>}.
        </p>
      )}
      {c.state === "scheduled" && c.waitsUntil && (
        <p role="status" id="waits" className="flex items-center gap-2">
          <Mark state="asking" /> Scheduled until {time(c.waitsUntil)}:{" "}
          {c.startedAt
            ? "it waits before its point of no return, and goes on by itself then"
            : "it starts by itself then"}
          . &ldquo;Pause&rdquo; keeps it from that.
        </p>
      )}
      {c.state === "paused" && (
        <p role="status" id="paused" className="flex items-center gap-2">
          <Mark state="asking" /> Paused{c.pausedBy && <> by {c.pausedBy}</>}
          {c.stateSince && <> since {time(c.stateSince)}</>}. It does not go on by itself.
        </p>
      )}
      {c.state === "asking" && c.stateSince && (
        <p role="status" id="asking-since" className="flex items-center gap-2">
          <Mark state="asking" /> Asking since {time(c.stateSince)}.
        </p>
      )}
      {c.actions.includes("approve") && c.state !== "draft" && (
        <p role="status" id="unapproved" className="flex items-center gap-2">
          <Mark state="asking" /> What was approved has changed. It does not go on before it is approved again.
        </p>
      )}
      {c.returning && (
        <p role="status" className="flex items-center gap-2">
          <Mark state="returned" /> The way back of hop {c.returning} is taken{c.endedAt ? "" : " now"}: {c.returnWhy}
        </p>
      )}
      {c.failure && c.state !== "returned" && (
        <div role="alert" className="rounded-md border border-rose-700/40 bg-rose-50 p-3 dark:bg-rose-950/40">
          <p className="flex items-center gap-2 font-semibold text-rose-800 dark:text-rose-300">
            <Mark state="failed" /> This change failed
          </p>
          <p className="mt-1">{c.failure}</p>
        </div>
      )}
      {!c.startedAt && path && <Doubts path={path} />}
      {inTheWay && <ReadyCard c={c} />}
      {c.verdict && <Evidence of={c.verdict} />}
      {purpose.kind === "restore" && (
        <Card
          title="What is put back"
          aside={!c.startedAt && <Muted small>{span(c.remainingLow, c.remainingHigh)} expected in all</Muted>}
        >
          <p>{purpose.restore.parts.join("; ")}</p>
          <p className="mt-1 text-slate-600 dark:text-slate-400">
            The device runs {c.from}. What is there now is backed up first.
            {c.expectsHostKey && " It may show another host key; that is pinned then."}
          </p>
        </Card>
      )}
      {path && c.members && <Board c={c} now={now} />}
      {path && (
        <Card
          title={c.members ? "Path of the member that serves" : "Path"}
          aside={
            <span className="flex gap-4 text-xs text-slate-600 dark:text-slate-400">
              {!c.startedAt && <span>{span(c.remainingLow, c.remainingHigh)} expected in all</span>}
              <a
                className="underline"
                href={`/api/v1/changes/${c.id}/medium`}
                download={`change-${c.id}.zip`}
                title="The images of all hops with their hashes and a sheet of instructions, for a site without a usable network"
              >
                Hand-carried medium
              </a>
            </span>
          }
        >
          <PathLine path={path} passed={passed} partly={partly} />
          {c.comesBackAt && (
            <p>
              The device comes back at <span className="font-mono">{c.comesBackAt}</span>; there it is looked for once
              it was started anew.
            </p>
          )}
        </Card>
      )}
      {path && !c.members && <Board c={c} now={now} />}
      {c.checks && !c.startedAt && !c.endedAt && !inTheWay && <ReadyCard c={c} />}
      {!c.endedAt && purpose.kind !== "restore" && <TermsCard c={c} />}
      <Tabs
        label="What to see of this change"
        tabs={[
          {
            id: "steps",
            name: "Steps",
            show: (
              <Card>
                <Steps c={c} now={now} />
              </Card>
            ),
          },
          path && {
            id: "reasons",
            name: "Reasons",
            show: (
              <Card>
                <HopList path={path} />
                <Refused path={path} />
              </Card>
            ),
          },
          {
            id: "journal",
            name: "Journal",
            show: (
              <Card>
                <Journal c={c} />
              </Card>
            ),
          },
          line && {
            id: "line",
            name: "Console line",
            show: (
              <Card>
                <ConsoleLine device={c.device} change={c.id} live={!c.endedAt} />
              </Card>
            ),
          },
        ]}
      />
    </>
  );
}

const words: Record<Action, { name: string; ask?: string; why?: boolean; kind?: "main" | "risk" }> = {
  approve: { name: "Approve", kind: "main" },
  arm: {
    name: "Start at its time",
    ask: "The change starts by itself when its window opens, whether somebody watches or not. Arm it?",
  },
  early: {
    name: "Do not wait",
    kind: "risk",
    why: true,
    ask: "The approved time is taken away. The change has to be approved again; then it goes on at once when it is started or resumed. Why can it not wait?",
  },
  start: {
    name: "Start",
    kind: "main",
    ask: "New firmware restarts the device once for every hop, and a restore changes what runs; whoever is behind it may be cut off. Start now?",
  },
  pause: {
    name: "Pause",
    ask: "A running change goes on to its next safe point and rests there; a scheduled one does not go on by itself any more. Pause it?",
  },
  resume: {
    name: "Go on",
    kind: "main",
    ask: "The change goes on from where the device stands. If its next steps restart the device, whoever is behind it may be cut off. Go on now?",
  },
  stop: { name: "Give up", kind: "risk", ask: "The change ends here. The device stays as it is now. Give it up?" },
  "go-back": {
    name: "Go back",
    kind: "risk",
    ask: "The declared way back is taken: the device restarts into what it ran before. Go back?",
  },
  "sign-off": { name: "It is done" },
  accept: { name: "Accept" },
  retry: { name: "Try again" },
  leave: { name: "Leave it" }, // answered at the question
};

function Actions({ c }: { c: Change }) {
  const queries = useQueryClient();
  const [asking, setAsking] = useState<Action | null>(null);
  const [why, setWhy] = useState("");
  const act = useMutation({
    mutationFn: (action: Action) =>
      ask(
        api.POST("/changes/{id}/{action}", {
          params: { path: { id: c.id, action } },
          body: why ? { text: why } : undefined,
        }),
      ),
    onSuccess: (d) => queries.setQueryData(["change", c.id], d),
    onSettled: () => {
      setAsking(null);
      setWhy("");
    },
  });
  return (
    <>
      {c.actions
        .filter((a) => !c.question || a === "approve")
        .map((a) => (
          <Button
            key={a}
            id={a}
            kind={words[a].kind}
            disabled={act.isPending}
            onClick={() => (words[a].ask ? setAsking(a) : act.mutate(a))}
          >
            {words[a].name}
          </Button>
        ))}
      <Form
        open={asking !== null}
        onClose={() => setAsking(null)}
        title={asking ? `${words[asking].name}: change ${c.id} on ${c.device}` : ""}
        action={asking ? words[asking].name : ""}
        id="sure"
        kind={asking === "stop" ? "risk" : "main"}
        cancel="Not now"
        ready={!asking || !words[asking].why || why.trim().length >= 3}
        request={act}
        onSubmit={() => asking && act.mutate(asking)}
      >
        <p>{asking && words[asking].ask}</p>
        {asking && words[asking].why && (
          <Field label="Why" name="why" value={why} onChange={(e) => setWhy(e.target.value)} />
        )}
      </Form>
      {c.endedAt && c.state !== "done" && <Redraft id={c.id} />}
      {act.error && (
        <div className="basis-full">
          <Trouble error={act.error} />
        </div>
      )}
    </>
  );
}

export function Evidence({ of }: { of: Verdict }) {
  return (
    <Card
      title={
        <span className="flex items-center gap-2">
          Verdict <Badge state={of.verdict} />
        </span>
      }
    >
      <table className="w-full">
        <thead>
          <tr>
            <th>Reading</th>
            <th>Expected</th>
            <th>Before</th>
            <th>After</th>
            <th>Evidence</th>
          </tr>
        </thead>
        <tbody>
          {of.results.map((r) => (
            <tr key={r.reading} className="border-t border-line dark:border-nightline">
              <td className="font-medium whitespace-nowrap">{r.title}</td>
              <td>
                <Badge state={r.state === "unmet" && r.severity === "degraded" ? "degraded" : r.state}>
                  {r.state.replace("-", " ")}
                </Badge>
              </td>
              <td className="max-w-60 wrap-anywhere">{r.before ?? "not compared"}</td>
              <td className="max-w-60 wrap-anywhere">{r.after ?? (r.state === "met" ? "" : "not read")}</td>
              <td className="wrap-anywhere">{r.evidence}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Card>
  );
}

/** As which model the device goes on at the end of a path; nothing where it stays what it is. */
function asModel(path: NonNullable<ReturnType<typeof pathOf>>) {
  const h = path.hops.findLast((x) => x.newModel);
  return h ? ` as ${h.newModel}` : "";
}

function Steps({ c, now }: { c: Change; now: number }) {
  const purpose = purposeOf(c);
  const path = pathOf(purpose);
  const groups: { hop: number; steps: Step[]; title?: string }[] = [];
  for (const m of c.members ?? [])
    groups.push({
      hop: 0,
      steps: c.steps.filter((s) => s.member === m.number),
      title: `${m.device}: ${m.from} to ${m.to}`,
    });
  if (c.members) groups.push({ hop: 0, steps: c.steps.filter((s) => !s.member), title: "The whole" });
  for (const s of c.members ? [] : c.steps) {
    if (groups.at(-1)?.hop !== s.hop || !!groups.at(-1)?.steps[0].back !== !!s.back)
      groups.push({ hop: s.hop, steps: [] });
    groups.at(-1)!.steps.push(s);
  }
  return (
    <div className="space-y-2">
      {groups.map((g, i) => {
        const h = path?.hops[g.hop - 1];
        const title = g.title
          ? g.title
          : g.steps[0].back
            ? `Way back${h ? ` of hop ${g.hop}: ${h.to} to ${h.from}` : ""}`
            : h
              ? `Hop ${g.hop} of ${path!.hops.length}: ${h.from} to ${h.to}${h.newModel ? ` as ${h.newModel}` : ""}`
              : purpose.kind === "restore" || g.hop > 0
                ? "Steps"
                : i === 0
                  ? "Before"
                  : "After";
        const state = g.steps.every((s) => s.state === "done" || s.state === "skipped")
          ? "done"
          : g.steps.some((s) => s.state === "failed")
            ? "failed"
            : g.steps.some((s) => s.state !== "waiting")
              ? "running"
              : "waiting";
        // Open what goes on or failed, and everything while it is a draft; the key makes it open when its turn comes.
        return (
          <Disclosure
            key={`${i}${state}`}
            as="div"
            defaultOpen={state === "running" || state === "failed" || !c.startedAt}
          >
            <DisclosureButton className="flex w-full items-center gap-2 rounded-sm bg-slate-100 px-3 py-1.5 text-left font-semibold dark:bg-slate-800">
              <Mark state={state} /> {title}
              <span className="ml-auto text-xs font-normal text-slate-600 dark:text-slate-400">
                {g.steps.filter((s) => s.state === "done").length} of {g.steps.length} steps
              </span>
            </DisclosureButton>
            <DisclosurePanel>
              <table className="w-full table-fixed">
                <colgroup>
                  <col className="w-72" />
                  <col className="w-16" />
                  <col className="w-36" />
                  <col />
                </colgroup>
                <thead className="sr-only">
                  <tr>
                    <th>Step</th>
                    <th>Elapsed</th>
                    <th>Expected</th>
                    <th>What</th>
                  </tr>
                </thead>
                <tbody>
                  {g.steps.map((s) => (
                    <StepRow key={s.number} c={c} s={s} now={now} />
                  ))}
                </tbody>
              </table>
            </DisclosurePanel>
          </Disclosure>
        );
      })}
    </div>
  );
}

function StepRow({ c, s, now }: { c: Change; s: Step; now: number }) {
  const elapsed = s.startedAt ? ((s.endedAt ? Date.parse(s.endedAt) : now) - Date.parse(s.startedAt)) / 1000 : null;
  const late = s.state === "running" && elapsed !== null && elapsed > s.high;
  return (
    <tr data-step={s.number} data-state={s.state} className="border-b border-line last:border-0 dark:border-nightline">
      <td>
        <span className="flex items-center gap-2">
          <Mark state={s.state} />
          <span>
            {s.title}
            {s.text && <span className="block text-xs text-slate-600 dark:text-slate-400">{s.text}</span>}
          </span>
          <span className="sr-only">: {s.state}</span>
        </span>
      </td>
      <td className="text-right font-mono">{elapsed !== null && duration(elapsed)}</td>
      <td className="text-slate-600 dark:text-slate-400">of {span(s.low, s.high)}</td>
      <td>
        {s.state === "running" ? (
          <div className="flex items-center gap-3">
            <div className="w-40 shrink-0">
              <Bar fraction={fractionOf(s, now)} label={s.title} />
            </div>
            <span>
              {late && <Badge state="degraded">longer than expected; given up at {duration(s.limit)}</Badge>} {s.note}
            </span>
          </div>
        ) : (
          <span className={s.state === "failed" ? "text-rose-800 dark:text-rose-300" : ""}>{s.outcome}</span>
        )}
        {s.kind === "hand" && s.state === "done" && <Attached c={c} step={s.number} />}
        {s.attempts > 1 && (
          <span className="ml-2 text-xs text-slate-600 dark:text-slate-400">({s.attempts} tries)</span>
        )}
      </td>
    </tr>
  );
}

function Journal({ c }: { c: Change }) {
  const { query, rows } = useGrowing(
    ["journal", c.id],
    (cursor) =>
      ask(api.GET("/changes/{id}/journal", { params: { path: { id: c.id }, query: { cursor, limit: 500 } } })),
    c.endedAt ? false : 2000,
  );
  return (
    <>
      <Trouble error={query.error} />
      <table className="w-full">
        <thead>
          <tr>
            <th>When</th>
            <th>Step</th>
            <th>What</th>
            <th>Detail</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((e) => (
            <tr key={e.id} className="border-t border-line dark:border-nightline">
              <td className="whitespace-nowrap">{time(e.at)}</td>
              <td>{e.step || ""}</td>
              <td>{e.event}</td>
              <td>{e.detail}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
