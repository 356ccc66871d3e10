// Compare two configurations, or all files of a device.
import { useMutation } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { api, ask, type Difference, type S } from "../shared/api";
import { counted, marks, Sign } from "../shared/marks";
import { SideBySide, type Jump } from "../shared/sidebyside";
import { Button, Card, Field, Trouble } from "../shared/ui";
import { type Fill, unfilled, sourceOf, Source } from "./source";
import { Differences, kindsOf } from "./differences";

type Bundle = S["ConfigurationBundle"];

type FileComparison = S["FileComparison"];

/** Several files of one device. */
function Files({ label, value, onChange }: { label: string; value: Bundle; onChange: Fill<Bundle> }) {
  return (
    <fieldset className="space-y-2">
      <legend className="font-semibold">{label}</legend>
      <input
        type="file"
        multiple
        aria-label={`${label}: files`}
        onChange={async (e) => {
          const files = await Promise.all(
            [...(e.target.files ?? [])].map(async (f) => ({ name: f.name, text: await f.text() })),
          );
          onChange((now) => ({ ...now, files }));
        }}
        className="w-full text-sm"
      />
      <Field
        label="Written by"
        hint="MODEL@VERSION, such as TH-60@4.2.9"
        value={value.from}
        onChange={(e) => {
          const from = e.target.value.trim();
          onChange((now) => ({ ...now, from }));
        }}
      />
    </fieldset>
  );
}

export function Compare() {
  const [many, setMany] = useState(false);
  return (
    <>
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={many} onChange={() => setMany(!many)} />
        All files of a device at once
      </label>
      {many ? <CompareBundles /> : <CompareTwo />}
    </>
  );
}

function CompareBundles() {
  const [old, setOld] = useState<Bundle>({ from: "", files: [] });
  const [now, setNow] = useState<Bundle>({ from: "", files: [] });
  const ready = [old, now].every((b) => b.from && b.files.length);
  const [open, setOpen] = useState<FileComparison>();
  const compare = useMutation({
    mutationFn: () => ask(api.POST("/configurations/compare-bundles", { body: { old, new: now } })),
    onSuccess: (d) => setOpen(d.items.find((f) => !f.same)),
  });
  const names = (f: FileComparison) => (f.state === "renamed" ? `${f.old}, now ${f.new}` : (f.new ?? f.old));
  const kind: Record<string, string> = {
    same: "kept",
    changed: "changed",
    missing: "removed",
    new: "added",
    renamed: "renamed",
  };
  return (
    <>
      <Card title="Compare all files of a device">
        <div className="grid gap-4 md:grid-cols-2">
          <Files label="Old" value={old} onChange={setOld} />
          <Files label="New" value={now} onChange={setNow} />
        </div>
        <div className="mt-4">
          <Button kind="main" disabled={!ready || compare.isPending} onClick={() => compare.mutate()}>
            Compare
          </Button>
        </div>
        <Trouble error={compare.error} />
      </Card>
      {compare.data && (
        <Card title={compare.data.same ? "All files mean the same" : "Files"}>
          <ul className="space-y-1">
            {compare.data.items.map((f) => (
              <li key={`${f.old} ${f.new}`}>
                <button
                  type="button"
                  aria-pressed={open === f}
                  className={`flex gap-2 rounded-sm px-1 ${open === f ? "bg-slate-100 dark:bg-slate-700" : ""}`}
                  onClick={() => setOpen(f)}
                >
                  <Sign of={kind[f.state]} />
                  <b>{names(f)}</b>
                  {f.state}
                  {f.state === "changed" && f.same && ", only cosmetically"}
                </button>
              </li>
            ))}
          </ul>
        </Card>
      )}
      {open && (
        <Compared
          key={`${open.old} ${open.new}`}
          old={open.oldText}
          now={open.newText}
          of={open.items}
          names={[open.old ?? "not there", open.new ?? "not there"]}
        />
      )}
    </>
  );
}

function CompareTwo() {
  const [left, setLeft] = useState(unfilled);
  const [right, setRight] = useState(unfilled);
  const [old, now] = [sourceOf(left), sourceOf(right)];
  const compare = useMutation({
    mutationFn: () => ask(api.POST("/configurations/compare", { body: { old: old!, new: now! } })),
  });
  const d = compare.data;
  return (
    <>
      <Card title="Compare two configurations">
        <div className="grid gap-4 md:grid-cols-2">
          <Source label="Old" value={left} onChange={setLeft} />
          <Source label="New" value={right} onChange={setRight} />
        </div>
        <div className="mt-4 flex items-center gap-3">
          <Button kind="main" disabled={!old || !now || compare.isPending} onClick={() => compare.mutate()}>
            Compare
          </Button>
          {d && (
            <span>
              {Object.keys(marks)
                .map((k) => [k, d.items.filter((x) => x.kind === k).length] as const)
                .filter(([, n]) => n)
                .map(([k, n]) => counted(k, n))
                .join(", ") || "No difference."}
            </span>
          )}
        </div>
        <Trouble error={compare.error} />
      </Card>
      {d && <Compared old={d.oldText} now={d.newText} of={d.items} names={["Old", "New"]} />}
    </>
  );
}

export function Compared({
  old,
  now,
  of,
  names,
}: {
  old: string;
  now: string;
  of: Difference[];
  names: [string, string];
}) {
  const kinds = useMemo(
    () => ({
      left: kindsOf(of.map((x) => ({ line: x.oldLine, kind: x.kind }))),
      right: kindsOf(of.map((x) => ({ line: x.newLine, kind: x.kind }))),
    }),
    [of],
  );
  const editors = useRef<Jump>(null);
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[8fr_4fr]">
      <Card title="Side by side">
        <SideBySide
          ref={editors}
          left={old}
          right={now}
          leftKinds={kinds.left}
          rightKinds={kinds.right}
          names={names}
        />
      </Card>
      <Card title="Differences">
        <div className="max-h-[66vh] overflow-y-auto">
          <Differences of={of} onPick={(x) => editors.current?.jump(x.oldLine, x.newLine)} />
        </div>
      </Card>
    </div>
  );
}
