// Whether a change may begin: the checks, what was accepted, and drafting anew.
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router-dom";
import { api, ask, type Change } from "../shared/api";
import { time } from "../shared/format";
import { Badge, Button, Card, Field, Form, Mark, Trouble } from "../shared/ui";
import { useAnswer } from "./question";

/** Readiness: every check with its evidence, and what to do. */
export function ReadyCard({ c }: { c: Change }) {
  const keep = useAnswer(c);
  const [accepting, setAccepting] = useState<string | null>(null);
  const [reason, setReason] = useState("");
  const look = useMutation({
    mutationFn: () => ask(api.POST("/changes/{id}/ready", { params: { path: { id: c.id } } })),
    ...keep,
  });
  const accept = useMutation({
    mutationFn: (v: { check: string; reason: string }) =>
      ask(
        api.POST("/changes/{id}/accept-warnings", {
          params: { path: { id: c.id } },
          body: { checks: [v.check], reason: v.reason },
        }),
      ),
    onSuccess: (d) => {
      keep.onSuccess(d);
      setAccepting(null);
      setReason("");
    },
  });
  const checks = c.checks ?? [];
  const open = checks.filter((k) => k.state === "stop" || (k.state === "warn" && !k.acceptedBy)).length;
  const before = !c.startedAt && !c.endedAt;
  return (
    <Card
      title={
        <span className="flex items-center gap-2">
          Readiness <Badge state={open ? "held" : "ready"}>{open ? `${open} in the way` : "ready"}</Badge>
        </span>
      }
      aside={
        <span className="flex items-center gap-3 text-xs text-slate-600 dark:text-slate-400">
          {c.checkedAt && <>looked {time(c.checkedAt)}</>}
          {before && (
            <Button id="look" disabled={look.isPending} onClick={() => look.mutate()}>
              {look.isPending ? "Looking ..." : "Look again"}
            </Button>
          )}
        </span>
      }
    >
      <Trouble error={look.error ?? accept.error} />
      <table className="w-full table-fixed">
        <colgroup>
          <col className="w-64" />
          <col />
          <col className="w-28" />
        </colgroup>
        <tbody>
          {checks.map((k) => (
            <tr
              key={k.name}
              data-check={k.name}
              data-state={k.state}
              className="border-b border-line last:border-0 dark:border-nightline"
            >
              <td className="align-top">
                <span className="flex items-start gap-2">
                  <Mark state={k.state === "pass" ? "done" : k.state === "warn" ? "held" : "failed"} />
                  <span>
                    {k.title}
                    <span className="sr-only">: {k.state}</span>
                  </span>
                </span>
              </td>
              <td className="align-top">
                {k.evidence}
                {k.remedy && !k.acceptedBy && (
                  <span className="block text-slate-600 dark:text-slate-400">To do: {k.remedy}</span>
                )}
                {k.acceptedBy && (
                  <span className="block text-slate-600 dark:text-slate-400">
                    Accepted by {k.acceptedBy}: {k.reason}
                  </span>
                )}
              </td>
              <td className="text-right align-top">
                {before && k.name === "identity" && k.state === "stop" && <Redraft id={c.id} />}
                {before && k.state === "warn" && !k.acceptedBy && (
                  <Button onClick={() => setAccepting(k.name)} aria-label={`Accept ${k.title}`}>
                    Accept
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Form
        open={!!accepting}
        onClose={() => setAccepting(null)}
        title={`Accept: ${checks.find((k) => k.name === accepting)?.title}`}
        action="Accept"
        id="take-on"
        cancel="Not now"
        ready={reason.trim().length >= 3}
        request={accept}
        onSubmit={() => accept.mutate({ check: accepting!, reason: reason.trim() })}
      >
        <p>{checks.find((k) => k.name === accepting)?.evidence}</p>
        <Field label="Why" name="reason" value={reason} onChange={(e) => setReason(e.target.value)} />
      </Form>
    </Card>
  );
}

/** Drafts the same aim once more, from where the device stands now. */
export function Redraft({ id }: { id: number }) {
  const go = useNavigate();
  const anew = useMutation({
    mutationFn: () => ask(api.POST("/changes/{id}/redraft", { params: { path: { id } } })),
    onSuccess: (d) => go(`/changes/${d.id}`),
  });
  return (
    <>
      <Button id="redraft" disabled={anew.isPending} onClick={() => anew.mutate()}>
        {anew.isPending ? "Looking ..." : "Draft anew"}
      </Button>
      <Trouble error={anew.error} />
    </>
  );
}
