// When a change may run, and what happens when it fails.
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Change } from "../shared/api";
import { span, time, momentOf, onTheWall, zoneName } from "../shared/format";
import { Button, Card, Field, Form, Mark, Muted, Pick } from "../shared/ui";
import { useAnswer } from "./question";

/** The window, the forecast, and the way back of each hop. */
export function TermsCard({ c }: { c: Change }) {
  const [editing, setEditing] = useState(false);
  const t = c.terms ?? {};
  const before = ["draft", "approved", "paused", "scheduled", "asking"].includes(c.state);
  return (
    <Card
      title="Window and way back"
      aside={
        before && (
          <Button id="terms" onClick={() => setEditing(true)}>
            Change
          </Button>
        )
      }
    >
      <div className="grid gap-4 md:grid-cols-[1fr_2fr]">
        <dl className="space-y-2">
          <div>
            <dt className="text-xs text-slate-600 dark:text-slate-400">Window</dt>
            <dd className="font-medium">
              {t.windowFrom || t.windowTo ? (
                <>
                  {t.windowFrom ? time(t.windowFrom) : "any time"} until {t.windowTo ? time(t.windowTo) : "it is done"}
                </>
              ) : (
                "none: any time"
              )}
              {t.restartFrom && (
                <span className="block">past the point of no return at {time(t.restartFrom)} or later</span>
              )}
            </dd>
          </div>
          {c.half !== undefined && c.most !== undefined && (
            <div>
              <dt className="text-xs text-slate-600 dark:text-slate-400">Forecast</dt>
              <dd className="font-medium">
                {span(c.half, c.most)}{" "}
                <span className="font-normal text-slate-600 dark:text-slate-400">usual, and bad case</span>
              </dd>
            </div>
          )}
          <div>
            <dt className="text-xs text-slate-600 dark:text-slate-400">When it fails</dt>
            <dd className="font-medium">
              {t.wayBack === "automatic" ? "the way back is taken without asking" : "the way back is offered"}
            </dd>
          </div>
        </dl>
        <ul className="space-y-1">
          {(c.waysBack ?? []).map((w) => (
            <li key={w.hop} className="flex items-start gap-2">
              <Mark state={w.way ? "kept" : "held"} />
              <span>
                <b>{c.path?.hops[w.hop - 1]?.to ?? `Hop ${w.hop}`}</b>: {w.text}
                {w.most !== undefined && <Muted> ({span(0, w.most)})</Muted>}
              </span>
            </li>
          ))}
        </ul>
      </div>
      {editing && <TermsDialog c={c} onClose={() => setEditing(false)} />}
    </Card>
  );
}

function TermsDialog({ c, onClose }: { c: Change; onClose: () => void }) {
  const keep = useAnswer(c);
  const [from, setFrom] = useState(onTheWall(c.terms?.windowFrom));
  const [to, setTo] = useState(onTheWall(c.terms?.windowTo));
  const [restart, setRestart] = useState(onTheWall(c.terms?.restartFrom));
  const [way, setWay] = useState<"offered" | "automatic">(c.terms?.wayBack ?? "offered");
  const put = useMutation({
    mutationFn: () =>
      ask(
        api.PUT("/changes/{id}/terms", {
          params: { path: { id: c.id } },
          body: { windowFrom: momentOf(from), windowTo: momentOf(to), restartFrom: momentOf(restart), wayBack: way },
        }),
      ),
    onSuccess: (d) => {
      keep.onSuccess(d);
      onClose();
    },
  });
  return (
    <Form
      onClose={onClose}
      title={`Window and way back of change ${c.id}`}
      action="Write"
      id="write-terms"
      request={put}
      onSubmit={() => put.mutate()}
    >
      <p>What was approved has to be approved again. Times are in {zoneName()}.</p>
      <div className="grid grid-cols-2 gap-3">
        <Field
          label="Not before"
          type="datetime-local"
          name="from"
          value={from}
          onChange={(e) => setFrom(e.target.value)}
        />
        <Field
          label="Over, going back included, by"
          type="datetime-local"
          name="to"
          value={to}
          onChange={(e) => setTo(e.target.value)}
        />
      </div>
      <Field
        label="Past the point of no return not before"
        hint="what comes before it is done as soon as the change starts"
        type="datetime-local"
        name="restart"
        value={restart}
        onChange={(e) => setRestart(e.target.value)}
      />
      <Pick
        id="way"
        label="When it fails after the point of no return"
        value={way}
        onChange={(v) => !c.startedAt && setWay(v as typeof way)}
      >
        <option value="offered">offer the way back</option>
        <option value="automatic">take the way back without asking</option>
      </Pick>
    </Form>
  );
}
