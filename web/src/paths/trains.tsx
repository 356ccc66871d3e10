// The releases of a family as stops on the lines of their trains, by date, with the ways between them.
import { useState } from "react";
import type { Family, Path } from "../shared/api";
import { jumps, Refusal } from "./pathline";

const wide = 1180,
  right = 50,
  track = 48,
  above = 14;

type Stop = { version: string; train: string; stage: string; x: number; y: number; runs: boolean };

/** Places every release: trains from old to new upwards, releases by date with room between them. */
function layout(family: Family, model: string): { stops: Map<string, Stop>; trains: string[]; height: number } {
  const releases = [...family.releases].reverse();
  const trains = [...new Set(releases.map((r) => r.train))];
  const dates = releases.map((r) => (r.date ? Date.parse(r.date) : NaN)).filter((d) => !Number.isNaN(d));
  const first = Math.min(...dates),
    span = Math.max(1, Math.max(...dates) - first);
  const left = 44 + 8 * Math.max(...trains.map((t) => t.length)); // the names of the trains stand there
  const height = above + trains.length * track;
  const stops = new Map<string, Stop>();
  for (const train of trains) {
    const own = releases.filter((r) => r.train === train);
    const gap = Math.min(34, (wide - left - right) / own.length);
    let x = -Infinity;
    const places = own.map(
      (r, i) =>
        (x = Math.max(
          x + gap,
          left + (r.date ? ((Date.parse(r.date) - first) / span) * (wide - left - right) : i * gap),
        )),
    );
    const over = Math.max(0, (places.at(-1) ?? 0) - (wide - right));
    own.forEach((r, i) =>
      stops.set(r.version, {
        version: r.version,
        train,
        stage: r.stage,
        x: places[i] - over,
        y: height - track / 2 - trains.indexOf(train) * track,
        runs: r.models.includes(model),
      }),
    );
  }
  return { stops, trains, height };
}

/** The last part of a version, for a stop whose line says the rest. */
const short = (s: Stop) =>
  s.version.startsWith(s.train) ? s.version.slice(s.train.length).replace(/^[.-]/, "") || s.version : s.version;

export function Trains({
  family,
  model,
  path,
  from,
  picked,
  onPick,
}: {
  family: Family;
  model: string;
  path?: Path;
  from?: string;
  picked: number;
  onPick: (alternative: number) => void;
}) {
  const { stops, trains, height } = layout(family, model);
  const [cut, setCut] = useState<number | null>(null);
  const cuts = path ? jumps(path) : [];
  const way = (hops: { to: string }[]) =>
    [from ?? "", ...hops.map((h) => h.to)].map((v) => stops.get(v)).filter((s) => s !== undefined);
  const line = (ss: Stop[]) => ss.map((s, i) => `${i ? "L" : "M"}${s.x} ${s.y}`).join(" ");
  const alone = path && !path.moves ? path : undefined; // an ensemble's moves are told in the list
  const shown = alone && picked > 0 ? alone.alternatives[picked - 1]?.hops : alone?.hops;
  const onWay = new Set(shown ? way(shown).map((s) => s.version) : []);
  return (
    <div>
      <svg
        viewBox={`0 0 ${wide} ${height}`}
        className="w-full"
        role="group"
        aria-label={`Releases of ${family.title}${alone?.found ? `; the way stops at ${alone.hops.map((h) => h.to).join(", ")}` : ""}`}
      >
        {trains.map((t, i) => {
          const y = height - track / 2 - i * track;
          const own = [...stops.values()].filter((s) => s.train === t);
          return (
            <g key={t}>
              <text x={4} y={y + 4} className="fill-ink text-[12px] font-semibold dark:fill-slate-200">
                {t}
              </text>
              <line
                x1={Math.min(...own.map((s) => s.x)) - 10}
                x2={Math.max(...own.map((s) => s.x)) + 10}
                y1={y}
                y2={y}
                className="stroke-slate-300 dark:stroke-slate-700"
                strokeWidth="6"
                strokeLinecap="round"
              />
            </g>
          );
        })}
        {alone?.alternatives.map(
          (a, i) =>
            i + 1 !== picked && (
              <path
                key={i}
                d={line(way(a.hops))}
                fill="none"
                className="cursor-pointer stroke-sky-700 dark:stroke-sky-400"
                strokeWidth="2"
                strokeDasharray="2 5"
                strokeLinecap="round"
                onClick={() => onPick(i + 1)}
              >
                <title>{`Other way ${i + 1}: ${a.why}`}</title>
              </path>
            ),
        )}
        {alone && picked > 0 && (
          <path
            d={line(way(alone.hops))}
            fill="none"
            className="cursor-pointer stroke-slate-500"
            strokeWidth="2"
            strokeDasharray="2 5"
            strokeLinecap="round"
            onClick={() => onPick(0)}
          >
            <title>The best way</title>
          </path>
        )}
        {picked === 0 &&
          cuts.map((j, i) => {
            const a = stops.get(j.from),
              b = stops.get(j.to);
            if (!a || !b) return null;
            const mx = (a.x + b.x) / 2 - (b.y - a.y) * 0.22 - 14,
              my = (a.y + b.y) / 2 - Math.abs(b.x - a.x) * 0.1 - 16;
            const on = cut === i;
            const cx = (a.x + 2 * mx + b.x) / 4,
              cy = (a.y + 2 * my + b.y) / 4;
            return (
              <g
                key={i}
                role="button"
                tabIndex={0}
                aria-pressed={on}
                aria-label={`Refused: ${j.from} to ${j.to}`}
                className={`outline-none [&:focus-visible>circle]:stroke-[4] ${on ? "text-rose-800 dark:text-rose-300" : "text-rose-800/50 dark:text-rose-300/50"}`}
                onClick={() => setCut(on ? null : i)}
                onKeyDown={(e) => {
                  if (e.key === "Enter" || e.key === " ") {
                    e.preventDefault();
                    setCut(on ? null : i);
                  }
                }}
              >
                <path
                  d={`M${a.x} ${a.y} Q ${mx} ${my} ${b.x} ${b.y}`}
                  fill="none"
                  stroke="currentColor"
                  strokeWidth={on ? 2.5 : 1.5}
                  strokeDasharray="3 4"
                />
                <circle
                  cx={cx}
                  cy={cy}
                  r="8"
                  className="fill-white dark:fill-deck"
                  stroke="currentColor"
                  strokeWidth="1.5"
                />
                <path
                  d={`M${cx - 3} ${cy - 3} l6 6 m0 -6 l-6 6`}
                  stroke="currentColor"
                  strokeWidth="2"
                  strokeLinecap="round"
                />
              </g>
            );
          })}
        {shown && (
          <path
            d={line(way(shown))}
            fill="none"
            className="stroke-brass dark:stroke-brasslight"
            strokeWidth="5"
            strokeLinejoin="round"
            strokeLinecap="round"
          />
        )}
        {[...stops.values()].map((s) => {
          const on = onWay.has(s.version),
            start = s.version === from;
          const look =
            on || start
              ? "fill-brass stroke-brass dark:fill-brasslight dark:stroke-brasslight"
              : s.runs
                ? "fill-white stroke-ink dark:fill-deck dark:stroke-slate-300"
                : "fill-white stroke-slate-400 dark:fill-deck dark:stroke-slate-600";
          return (
            <g key={s.version}>
              <title>{`${s.version}, ${s.stage}${s.runs ? "" : ", not for this model"}`}</title>
              {s.stage === "withdrawn" ? (
                <path
                  d={`M${s.x - 5} ${s.y - 5} l10 10 m0 -10 l-10 10`}
                  className="stroke-slate-500"
                  strokeWidth="2.5"
                  strokeLinecap="round"
                />
              ) : s.stage === "preview" ? (
                <rect
                  x={s.x - 5}
                  y={s.y - 5}
                  width="10"
                  height="10"
                  transform={`rotate(45 ${s.x} ${s.y})`}
                  className={look}
                  strokeWidth="2"
                />
              ) : (
                <circle
                  cx={s.x}
                  cy={s.y}
                  r={s.stage === "preferred" ? 8 : 5.5}
                  className={look}
                  strokeWidth="2"
                  strokeDasharray={s.runs ? undefined : "2 2"}
                />
              )}
              {s.stage === "preferred" && (
                <circle
                  cx={s.x}
                  cy={s.y}
                  r="3"
                  className={
                    on || start
                      ? "fill-white dark:fill-night"
                      : s.runs
                        ? "fill-ink dark:fill-slate-300"
                        : "fill-slate-400"
                  }
                />
              )}
              {on || start ? (
                <text
                  x={s.x}
                  y={s.y - 13}
                  textAnchor="middle"
                  style={{ paintOrder: "stroke" }}
                  strokeWidth="4"
                  className="fill-ink stroke-white font-mono text-[12px] font-bold dark:fill-slate-100 dark:stroke-deck"
                >
                  {s.version}
                </text>
              ) : (
                <text
                  x={s.x}
                  y={s.y + 20}
                  textAnchor="middle"
                  style={{ paintOrder: "stroke" }}
                  strokeWidth="3"
                  className="fill-slate-600 stroke-white font-mono text-[10px] dark:fill-slate-400 dark:stroke-deck"
                >
                  {short(s)}
                </text>
              )}
            </g>
          );
        })}
      </svg>
      <p className="mt-2 flex flex-wrap gap-x-5 gap-y-1 text-xs text-slate-600 dark:text-slate-400">
        <span>◉ preferred</span>
        <span>○ general</span>
        <span>◇ preview</span>
        <span>✕ withdrawn</span>
        <span>dashed ring: not for this model</span>
        <span>thick line: the way</span>
        <span>dotted line: another way</span>
        <span>⊗ refused jump</span>
      </p>
      {picked === 0 && cut !== null && cuts[cut] && <Refusal of={cuts[cut]} />}
    </div>
  );
}
