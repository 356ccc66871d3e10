// One conversion: source and result side by side, and what became of each line.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate, useParams } from "react-router-dom";
import { api, ask, type ConversionChange } from "../shared/api";
import { kindsOf } from "./differences";
import { time } from "../shared/format";
import { counted, Sign } from "../shared/marks";
import { SideBySide, type Jump } from "../shared/sidebyside";
import { Badge, Button, Card, Muted, Tabs, Trouble, Waiting } from "../shared/ui";
import { states, Ledger } from "./ledger";
import { type SideProps, type Tab } from "./parts";
import { Decisions, Ports, Edits } from "./decisions";
import { Checks } from "./checks";

export function ConversionPage() {
  const id = Number(useParams().id);
  const queries = useQueryClient();
  const go = useNavigate();
  const key = ["conversion", id];
  const shown = useQuery({
    queryKey: key,
    queryFn: () => ask(api.GET("/conversions/{id}", { params: { path: { id } } })),
  });
  const change = useMutation({
    mutationFn: (body: ConversionChange) => ask(api.PATCH("/conversions/{id}", { params: { path: { id } }, body })),
    onSuccess: (c) => queries.setQueryData(key, c),
  });
  const remove = useMutation({
    mutationFn: () => ask(api.DELETE("/conversions/{id}", { params: { path: { id } } })),
    onSuccess: () => {
      queries.invalidateQueries({ queryKey: ["conversions"] });
      go("/configurations");
    },
  });
  const editors = useRef<Jump>(null);
  const [text, setText] = useState<string>();
  const [view, setView] = useState(0); // counted up, the editors begin again with what is kept
  const c = shown.data;
  useEffect(() => setText(undefined), [c?.resultText]);
  const kinds = useMemo(
    () =>
      c && {
        left: kindsOf(c.ledger.source.map((s) => ({ line: s.line, kind: s.state }))),
        right: kindsOf(
          c.ledger.target.map((t) => ({
            line: t.line,
            kind:
              t.origin === "source"
                ? (t.sources
                    .map((k) => c.ledger.source[k].state)
                    .sort((a, b) => states.indexOf(a) - states.indexOf(b))[0] ?? "kept")
                : t.origin,
          })),
        ),
      },
    [c],
  );
  if (shown.isPending) return <Waiting />;
  if (!c || !kinds) return <Trouble error={shown.error} />;
  const edited = text !== undefined && text !== c.resultText;
  return (
    <>
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="text-lg font-bold">{c.name}</h1>
        <span className="font-mono">
          {c.from} → {c.to}
        </span>
        <Badge state={c.complete ? "done" : "held"}>{c.complete ? "complete" : "needs a person"}</Badge>
        <Muted>
          {time(c.createdAt)}, {c.createdBy}
        </Muted>
        <span className="ml-auto flex items-center gap-2">
          <a
            className="underline"
            href={`/api/v1/conversions/${id}/report?format=html`}
            target="_blank"
            rel="noreferrer"
          >
            Report
          </a>
          <a
            className="underline"
            href={`/api/v1/conversions/${id}/report?format=pdf`}
            target="_blank"
            rel="noreferrer"
          >
            PDF
          </a>
          <Button disabled={remove.isPending} onClick={() => remove.mutate()}>
            Forget
          </Button>
        </span>
      </div>
      <p className="flex flex-wrap gap-3">
        {states.map((s) => (
          <span key={s} className="flex items-center gap-1">
            <Sign of={s} />
            {counted(
              s,
              (c.ledger.counts[s] ?? 0) +
                (s === "needs-person" ? c.ledger.assumed.filter((r) => r.state === s).length : 0),
            )}
          </span>
        ))}
      </p>
      {c.ledger.guessed && (
        <p className="font-semibold">
          No conversion is known between these two. What both describe alike is filled in; carry the rest over by hand,
          side by side.
        </p>
      )}
      {edited && (
        <p role="status" className="font-semibold">
          The result was edited. Keep or discard that first; then decisions, ports and edits can be changed again.
        </p>
      )}
      <Trouble error={change.error ?? remove.error} />
      <div className="grid items-start gap-4 lg:grid-cols-[8fr_4fr]">
        <Card
          title={c.ledger.stages.map((s) => s.conversion).join(", then ")}
          aside={
            <span className="flex gap-2">
              {edited && (
                <Button
                  onClick={() => {
                    setText(undefined);
                    setView(view + 1);
                  }}
                >
                  Discard
                </Button>
              )}
              <Button kind="main" disabled={!edited || change.isPending} onClick={() => change.mutate({ text })}>
                Keep hand edits
              </Button>
            </span>
          }
        >
          <SideBySide
            key={view}
            ref={editors}
            left={c.sourceText}
            right={c.resultText}
            leftKinds={kinds.left}
            rightKinds={kinds.right}
            names={[`Source, ${c.from}`, `Result, ${c.to} (you can edit it)`]}
            editable
            onEdit={setText}
          />
        </Card>
        <Side
          c={c}
          busy={change.isPending || edited}
          change={(b) => change.mutate(b)}
          jump={(l, r) => editors.current?.jump(l, r)}
        />
      </div>
    </>
  );
}

function Side(p: SideProps) {
  const { c } = p;
  const open = c.ledger.questions.filter((q) => !q.answer).length;
  const [tab, setTab] = useState<Tab>("ledger");
  return (
    <section className="rounded-md border border-line bg-white dark:border-nightline dark:bg-deck">
      <Tabs<Tab>
        label="About this conversion"
        tabs={[
          { id: "ledger", name: "Ledger", show: <Ledger {...p} show={setTab} /> },
          { id: "decisions", name: `Decisions${open ? ` (${open} open)` : ""}`, show: <Decisions {...p} /> },
          c.ledger.ports.length > 0 && { id: "ports", name: "Ports", show: <Ports {...p} /> },
          { id: "edits", name: `Hand edits (${c.ledger.edits.length})`, show: <Edits {...p} /> },
          { id: "checks", name: `Checks (${c.ledger.findings.length})`, show: <Checks {...p} /> },
        ]}
        chosen={tab}
        onChoose={setTab}
        bar="border-b border-line p-2 dark:border-nightline"
        panel="max-h-[64vh] overflow-y-auto p-3"
      />
    </section>
  );
}
