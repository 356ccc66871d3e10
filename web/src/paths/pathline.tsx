// The path drawn as a line with stops: what is passed, where one stands, what lies ahead, and the cuts that are refused.
import { useState } from "react";
import type { Citation, Hop, Path } from "../shared/api";
import { span } from "../shared/format";
import { Badge, Mark, Muted } from "../shared/ui";

const wide = 1200,
  left = 70;

type Jump = { from: string; to: string; refusals: Citation[] };

/** The refused jumps, each with everything that refuses it. */
export function jumps(path: Path): Jump[] {
  const out: Jump[] = [];
  for (const r of path.refused) {
    const last = out.at(-1);
    const refusal = { rule: r.rule || undefined, text: r.why, file: r.file, line: r.line };
    if (last && last.from === r.from && last.to === r.to) last.refusals.push(refusal);
    else out.push({ from: r.from, to: r.to, refusals: [refusal] });
  }
  return out;
}

/** passed is how many hops are behind; partly is how far the one that goes on is, 0 to 1. */
export function PathLine({ path, passed = -1, partly = 0 }: { path: Path; passed?: number; partly?: number }) {
  const stops = [path.from, ...path.hops.map((h) => h.to)];
  const planning = passed < 0; // the refused cuts matter while one plans; later they are under Reasons
  const gap = Math.min((wide - 2 * left) / path.hops.length, 420);
  const stopY = planning ? 92 : 24;
  const width = left * 2 + gap * path.hops.length;
  const x = (i: number) => left + i * gap;
  const reached = Math.max(passed, 0) + (passed >= 0 && passed < path.hops.length ? partly : 0);
  const cuts = jumps(path);
  const [jump, setJump] = useState<number | null>(cuts.length > 0 ? 0 : null);
  const shown = planning && jump !== null ? cuts[jump] : undefined;
  return (
    <div>
      <svg
        viewBox={`0 0 ${width} ${stopY + 84}`}
        className="w-full"
        style={{ maxWidth: width }}
        role="group"
        aria-label={`Path from ${path.from} to ${path.to} by ${path.hops.map((h) => h.to).join(", ")}`}
      >
        {planning &&
          cuts.map((j, i) => {
            const a = stops.indexOf(j.from),
              b = stops.indexOf(j.to);
            const rise = 26 + 20 * (b - a - 1);
            const picked = i === jump;
            const mid = (x(a) + x(b)) / 2,
              top = stopY - rise * 0.78 - 6;
            return (
              <g
                key={i}
                role="button"
                tabIndex={0}
                aria-pressed={picked}
                aria-label={`Refused: ${j.from} to ${j.to}`}
                className={picked ? "text-rose-800 dark:text-rose-300" : "text-slate-500"}
                onClick={() => setJump(picked ? null : i)}
                onKeyDown={(e) => {
                  if (e.key === "Enter" || e.key === " ") {
                    e.preventDefault();
                    setJump(picked ? null : i);
                  }
                }}
              >
                <path
                  d={`M${x(a)} ${stopY - 10} C ${x(a) + 40} ${stopY - rise - 8}, ${x(b) - 40} ${stopY - rise - 8}, ${x(b)} ${stopY - 10}`}
                  fill="none"
                  stroke="currentColor"
                  strokeWidth={picked ? 2 : 1.5}
                  strokeDasharray="3 5"
                />
                <circle
                  cx={mid}
                  cy={top}
                  r="9"
                  className="fill-white dark:fill-deck"
                  stroke="currentColor"
                  strokeWidth="1.5"
                />
                <path
                  d={`M${mid - 3.5} ${top - 3.5} l7 7 m0 -7 l-7 7`}
                  stroke="currentColor"
                  strokeWidth="2"
                  strokeLinecap="round"
                />
              </g>
            );
          })}
        <line
          x1={x(0)}
          y1={stopY}
          x2={x(stops.length - 1)}
          y2={stopY}
          className="stroke-slate-400 dark:stroke-slate-600"
          strokeWidth="3"
        />
        {passed >= 0 && (
          <line
            x1={x(0)}
            y1={stopY}
            x2={left + reached * gap}
            y2={stopY}
            className="stroke-brass transition-all dark:stroke-brasslight"
            strokeWidth="5"
            strokeLinecap="round"
          />
        )}
        {path.hops.map((h, i) => (
          <g key={h.to} className="fill-slate-600 text-[11px] dark:fill-slate-400" textAnchor="middle">
            <text x={(x(i) + x(i + 1)) / 2} y={stopY + 20}>
              hop {i + 1}, configuration {h.config}
            </text>
            <text x={(x(i) + x(i + 1)) / 2} y={stopY + 36}>
              {span(h.low, h.high)}
            </text>
          </g>
        ))}
        {stops.map((s, i) => {
          const behind = passed >= i,
            last = i === stops.length - 1;
          return (
            <g key={s}>
              <circle
                cx={x(i)}
                cy={stopY}
                r={last ? 11 : 8}
                className={
                  behind
                    ? "fill-brass stroke-brass dark:fill-brasslight dark:stroke-brasslight"
                    : "fill-white stroke-ink dark:fill-deck dark:stroke-slate-300"
                }
                strokeWidth="3"
              />
              {last && (
                <circle
                  cx={x(i)}
                  cy={stopY}
                  r="4"
                  className={behind ? "fill-white dark:fill-night" : "fill-ink dark:fill-slate-300"}
                />
              )}
              <text
                x={x(i)}
                y={stopY + 62}
                textAnchor="middle"
                className="fill-ink font-mono text-[15px] font-bold dark:fill-slate-100"
              >
                {s}
              </text>
              <text
                x={x(i)}
                y={stopY + 78}
                textAnchor="middle"
                className="fill-slate-600 text-[11px] dark:fill-slate-400"
              >
                {i === 0 ? (planning ? "runs now" : "ran before") : path.hops[i - 1].stage}
              </text>
            </g>
          );
        })}
      </svg>
      {shown && <Refusal of={shown} />}
    </div>
  );
}

export function Refusal({ of }: { of: Jump }) {
  return (
    <div className="mt-2 rounded-md border border-rose-700/40 bg-rose-50 p-3 dark:bg-rose-950/40">
      <p className="flex items-center gap-2 font-semibold text-rose-800 dark:text-rose-300">
        <Mark state="failed" /> Not {of.from} to {of.to}
      </p>
      <ul className="mt-1 space-y-1">
        {of.refusals.map((r, i) => (
          <li key={i}>
            <Reason of={r} />
          </li>
        ))}
      </ul>
    </div>
  );
}

/** Every jump that is not supported, with its refusals. */
export function Refused({ path }: { path: Path }) {
  return (
    <>
      {jumps(path).map((j) => (
        <Refusal key={`${j.from} ${j.to}`} of={j} />
      ))}
    </>
  );
}

/** A rule and what it says here. */
export function Reason({ of }: { of: Citation }) {
  return (
    <span>
      {of.rule && (
        <code
          className="mr-1.5 rounded-sm bg-slate-200 px-1 text-xs dark:bg-slate-700"
          title={of.file && `${of.file}, line ${of.line}`}
        >
          {of.rule}
        </code>
      )}
      {of.text}
    </span>
  );
}

/** The hops with their reasons, as a list to read. */
export function HopList({ path }: { path: Path }) {
  return (
    <ol className="space-y-3">
      {path.hops.map((h, i) => (
        <li key={i} className="border-l-4 border-line pl-3 dark:border-nightline">
          <HopText
            h={h}
            head={
              path.moves
                ? `Move ${i + 1}: ${path.moves[i].members.join(", then ")}: ${h.from} to ${h.to}`
                : `Hop ${i + 1}: ${h.from} to ${h.to}${h.newModel ? ` as ${h.newModel}` : ""}`
            }
          >
            {path.moves?.[i].beside.map((b, k) => (
              <p key={k} className="mt-0.5">
                Beside {b.what} on <span className="font-mono">{b.on}</span>:{" "}
                <Reason of={{ rule: b.rule, text: b.why }} />
              </p>
            ))}
          </HopText>
        </li>
      ))}
    </ol>
  );
}

/** What a hop onto another platform changes: names of ports, and what others know the device by. */
function PlatformText({ change }: { change: NonNullable<Hop["platform"]> }) {
  return (
    <div className="mt-1">
      <p>
        It goes on {change.inPlace ? "on the same machine" : "on another machine"}.
        {change.ports.length > 0 && <> Ports: {change.ports.map((p) => `${p.from} becomes ${p.to}`).join(", ")}.</>}
      </p>
      {change.willChange.length > 0 && (
        <>
          <p className="mt-1">Will change:</p>
          <ul className="list-disc pl-5">
            {change.willChange.map((v) => (
              <li key={v.value}>
                <code>{v.value}</code>: {v.text}
                {v.becomes && <Muted> (it becomes {v.becomes})</Muted>}
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  );
}

const words = { met: "met", unmet: "not met", unknown: "not known" };

function HopText({ h, head, children }: { h: Hop; head: string; children?: React.ReactNode }) {
  const install = h.images[0];
  return (
    <>
      <p className="flex flex-wrap items-center gap-2">
        <b>{head}</b> <Badge state={h.stage} /> <Badge state={h.config}>configuration {h.config}</Badge>
        <Muted>
          {span(h.low, h.high)}, {h.restarts} {h.restarts === 1 ? "restart" : "restarts"}
        </Muted>
      </p>
      {children}
      {h.cannot && (
        <p className="mt-1 flex gap-2">
          <Mark state="failed" /> By hand: {h.cannot}.
        </p>
      )}
      {h.platform && <PlatformText change={h.platform} />}
      <p className="mt-1">
        Permitted by <Reason of={h.permit} />
      </p>
      {h.because.map((b, k) => (
        <p key={k} className="mt-0.5">
          Needed: <Reason of={b} />
        </p>
      ))}
      <p className="mt-0.5">
        Image {install.file}
        {h.images
          .slice(1)
          .map((im) => `, ${im.role} ${im.file}`)
          .join("")}{" "}
        {h.images.some((im) => im.there === false) && (
          <Badge state="pending">
            not in the image store:{" "}
            {h.images
              .filter((im) => im.there === false)
              .map((im) => im.file)
              .join(", ")}
          </Badge>
        )}
      </p>
      {h.components.map((c) => (
        <p key={c.name} className="mt-0.5">
          {c.order === "before" ? "Before" : "After"} the image: {c.title} {c.from && `${c.from} to `}
          {c.to} ({c.trigger}
          {c.restarts && `, restarts ${c.restarts}`}, {span(c.minutes.low * 60, c.minutes.high * 60)})
        </p>
      ))}
      {h.prerequisites.map((q, k) => (
        <p key={k} className="mt-0.5 flex flex-wrap items-center gap-1.5">
          <Badge state={q.state === "unknown" ? "pending" : q.state}>{words[q.state]}</Badge>{" "}
          <Reason of={{ rule: q.rule || undefined, text: q.text }} />
          <Muted>
            ({q.evidence}
            {q.state !== "met" && q.remedy && `; otherwise ${q.remedy}`})
          </Muted>
        </p>
      ))}
      {h.hand_steps.map((s, k) => (
        <p key={k} className="mt-0.5">
          <Badge state="held">by hand, {s.due}</Badge> {s.text}
          {s.matters === "unknown" && ` (if ${s.when})`}
        </p>
      ))}
      {h.lost.map((l, k) => (
        <p key={k} className="mt-0.5">
          <Badge state="failed">lost</Badge> {l}
        </p>
      ))}
      {h.effects.map((e, k) => (
        <p key={k} className="mt-0.5 text-slate-600 dark:text-slate-400">
          {e.effect} for {e.clients} during {e.step}: {e.text}
        </p>
      ))}
      {h.notes.map((n, k) => (
        <p key={k} className="mt-0.5 text-slate-600 dark:text-slate-400">
          {n.kind === "info" ? "note" : n.kind}: {n.text}
          {n.matters === "unknown" && n.when && ` (if ${n.when})`}
        </p>
      ))}
    </>
  );
}

/** Why there is no path, how far one gets, and what would help. */
export function NoPath({ path }: { path: Path }) {
  return (
    <div role="alert" className="rounded-md border border-rose-700/40 bg-rose-50 p-3 dark:bg-rose-950/40">
      <p className="flex items-center gap-2 font-semibold text-rose-800 dark:text-rose-300">
        <Mark state="failed" /> There is no supported path from {path.from} to {path.to || path.aim}
      </p>
      <ul className="mt-1 space-y-1">
        {path.blocked_by.map((b, i) => (
          <li key={i}>
            <Reason of={{ rule: b.rule || undefined, text: b.why, file: b.file, line: b.line }} />
          </li>
        ))}
      </ul>
      {path.nearest && (
        <p className="mt-1">
          The nearest release that can be reached is <b className="font-mono">{path.nearest}</b>.
        </p>
      )}
      {path.would_help.map((w, i) => (
        <p key={i} className="mt-1">
          There would be a path if {w}.
        </p>
      ))}
    </div>
  );
}

/** What of a path is not known yet, or not there. */
export function Doubts({ path }: { path: Path }) {
  const unknown = path.hops.flatMap((h) =>
    h.prerequisites.filter((q) => q.state === "unknown" && q.rule).map((q) => ({ ...q, to: h.to })),
  );
  const missing = path.hops.flatMap((h) => h.images.filter((im) => im.there === false));
  if (unknown.length + missing.length === 0) return null;
  return (
    <div role="status" className="rounded-md border border-amber-700/40 bg-amber-50 p-3 dark:bg-amber-950/50">
      {unknown.map((q, i) => (
        <p key={i} className="flex items-start gap-2">
          <Mark state="pending" />{" "}
          <span>
            Not known for the hop to {q.to}: <Reason of={{ rule: q.rule, text: q.text }} /> ({q.evidence}); otherwise{" "}
            {q.remedy}.
          </span>
        </p>
      ))}
      {missing.map((im, i) => (
        <p key={i} className="flex items-start gap-2">
          <Mark state="pending" /> <span>{im.file} is not in the image store yet; it is being fetched.</span>
        </p>
      ))}
    </div>
  );
}
