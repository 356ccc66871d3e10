// What holds for every change: who approves, what happens when one fails, and what is measured beside what the dialects say.
import { useDialects } from "../shared/service";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type S } from "../shared/api";
import { Table } from "../shared/list";
import { Button, Card, Field, Form, Muted, Pick, Trouble, Waiting } from "../shared/ui";

export function RulesPage() {
  return (
    <>
      <div className="flex items-center gap-3">
        <h1 className="text-lg font-bold">Rules for changes</h1>
        <Muted>They hold for every change of this installation. A draft keeps the way back that it declares.</Muted>
      </div>
      <Policy />
      <Added />
    </>
  );
}

function Policy() {
  const queries = useQueryClient();
  const now = useQuery({ queryKey: ["change-policy"], queryFn: () => ask(api.GET("/change-policy")) });
  const put = useMutation({
    mutationFn: () =>
      ask(api.PUT("/change-policy", { body: queries.getQueryData<S["ChangePolicy"]>(["change-policy"])! })),
    onError: () => queries.invalidateQueries({ queryKey: ["change-policy"] }),
  });
  // What is chosen is shown at once; what is written is always the whole of what is shown.
  const set = (part: Partial<S["ChangePolicy"]>) => {
    queries.setQueryData<S["ChangePolicy"]>(["change-policy"], (p) => p && { ...p, ...part });
    put.mutate();
  };
  if (now.isPending) return <Waiting />;
  const p = now.data;
  return (
    <Card title="Approval and way back">
      <Trouble error={now.error ?? put.error} />
      {p && (
        <div className="space-y-3">
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              id="second-person"
              checked={p.secondPerson}
              onChange={(e) => set({ secondPerson: e.target.checked })}
            />{" "}
            Somebody else than who drafted a change has to approve it
          </label>
          <div className="max-w-lg">
            <Field
              label="Hours after the time it may restart from, where a change gives no end of its window"
              name="restart-hours"
              type="number"
              min="0.25"
              max="168"
              step="0.25"
              value={p.restartHours ?? 4}
              onChange={(e) => e.target.valueAsNumber >= 0.25 && set({ restartHours: e.target.valueAsNumber })}
            />
          </div>
          <div className="max-w-lg">
            <Pick
              id="policy-way"
              label="When a change fails after the point of no return"
              value={p.wayBack}
              onChange={(v) => set({ wayBack: v as typeof p.wayBack })}
            >
              <option value="offered">offer the way back</option>
              <option value="automatic">take the way back without asking</option>
            </Pick>
          </div>
        </div>
      )}
    </Card>
  );
}

/** A beginning for somebody who adds the first reading. */
const sample = `name: boots-from
title: Slot it starts from
send: tell boot
match: '(?m)from (?P<value>\\S+),'
type: text
expect: {rule: unchanged, severity: degraded}
`;

function Added() {
  const queries = useQueryClient();
  const all = useQuery({ queryKey: ["own-readings"], queryFn: () => ask(api.GET("/own-readings")) });
  const dialects = useDialects();
  const again = () => queries.invalidateQueries({ queryKey: ["own-readings"] });
  const [writing, setWriting] = useState<S["OwnReading"] | null>(null);
  const put = useMutation({
    mutationFn: (r: S["OwnReading"]) =>
      ask(api.PUT("/own-readings", { body: { group: r.group, dialect: r.dialect, definition: r.definition } })),
    onSuccess: () => {
      setWriting(null);
      again();
    },
  });
  const drop = useMutation({
    mutationFn: (id: number) => ask(api.DELETE("/own-readings/{id}", { params: { path: { id } } })),
    onSuccess: again,
  });
  const write = (r: S["OwnReading"] | null) => {
    put.reset();
    setWriting(r);
  };
  return (
    <Card
      title="Readings that are added to those of the dialects"
      aside={
        <Button id="add-reading" onClick={() => write({ dialect: "", group: "", definition: sample })}>
          Add a reading
        </Button>
      }
    >
      <Trouble error={all.error ?? drop.error} />
      {all.data && (
        <Table
          columns={[
            { head: "Reading", className: "font-semibold", cell: (r) => r.name },
            { head: "For", cell: (r) => `${r.group ? `group ${r.group}` : "every device"}, ${r.dialect}` },
            {
              head: "Definition",
              cell: (r) => <pre className="font-mono text-xs whitespace-pre-wrap">{r.definition.trim()}</pre>,
            },
            { head: "Added", cell: (r) => r.addedBy },
            {
              head: "Acts",
              bare: true,
              className: "text-right whitespace-nowrap",
              cell: (r) => (
                <>
                  <Button onClick={() => write(r)} aria-label={`Change ${r.name}`}>
                    Change
                  </Button>{" "}
                  <Button
                    onClick={() => drop.mutate(r.id!)}
                    disabled={drop.isPending}
                    aria-label={`Take away ${r.name}`}
                  >
                    Take away
                  </Button>
                </>
              ),
            },
          ]}
          rows={all.data.items}
          id={(r) => r.id!}
          empty="None yet. Whatever a command tells can be measured before and after every change and be part of the verdict."
        />
      )}
      <Form
        open={!!writing}
        onClose={() => setWriting(null)}
        title={writing?.id ? `Change the reading ${writing.name}` : "Add a reading"}
        action="Write"
        id="write-reading"
        ready={!!writing?.dialect}
        request={put}
        onSubmit={() => writing && put.mutate(writing)}
      >
        {writing && (
          <>
            <div className="grid grid-cols-2 gap-3">
              <Pick
                id="reading-dialect"
                label="Dialect"
                value={writing.dialect}
                onChange={(v) => setWriting({ ...writing, dialect: v })}
              >
                <option value="">choose one</option>
                {dialects.map((d) => (
                  <option key={d}>{d}</option>
                ))}
              </Pick>
              <Field
                label="Group"
                name="reading-group"
                hint="empty: every device of the dialect"
                value={writing.group ?? ""}
                onChange={(e) => setWriting({ ...writing, group: e.target.value.trim() })}
              />
            </div>
            <label className="block">
              <span className="mb-1 block text-xs font-semibold">Definition</span>
              <textarea
                name="definition"
                rows={8}
                spellCheck={false}
                className="w-full rounded-sm border border-slate-400 bg-transparent px-2 py-1.5 font-mono text-xs dark:border-slate-600"
                value={writing.definition}
                onChange={(e) => setWriting({ ...writing, definition: e.target.value })}
              />
              <span className="mt-1 block text-xs text-slate-600 dark:text-slate-400">
                As in a dialect file: what is sent, what of the answer counts, and what is expected afterwards.
              </span>
            </label>
          </>
        )}
      </Form>
    </Card>
  );
}
