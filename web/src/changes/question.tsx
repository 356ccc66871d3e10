// What a change asks of a person, and the answers.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router-dom";
import { api, ask, type Action, type Change, type S } from "../shared/api";
import { Button, Field, Mark, Trouble } from "../shared/ui";
import { Attached } from "./evidence";
import { Losses } from "./wayback";

/** Keeps what the service answers as the change that is shown. */
export function useAnswer(c: Change) {
  const queries = useQueryClient();
  return { onSuccess: (d: Change) => queries.setQueryData(["change", c.id], d) };
}

const answers: Partial<Record<Action, { name: string; kind?: "main" | "risk"; hint: string }>> = {
  "sign-off": { name: "It is done", kind: "main", hint: "You sign for it; what you write is kept." },
  accept: { name: "Accept the warnings", kind: "main", hint: "Say why; it is kept with your name." },
  "go-back": { name: "Go back", kind: "risk", hint: "The declared way back is taken." },
  retry: { name: "Try again", hint: "It begins with a look at the device." },
  leave: { name: "Leave it as it stands", kind: "risk", hint: "The change ends here." },
};

const heads: Record<S["Question"]["kind"], string> = {
  "hand-step": "Somebody has to do this by hand",
  warnings: "Doubts before it goes on",
  failed: "It failed after the point of no return",
  conversion: "The configuration needs decisions",
  "back-failed": "The way back failed",
  "other-unit": "Another unit answers",
  "not-as-left": "The device does not stand where the change left it",
  window: "It is not the time for what comes next",
  "our-data": "What this installation holds cannot be used",
  "our-fault": "The service broke off again and again",
};

/** The question of a change that needs a person, with the losses of going back where that is an answer. */
export function QuestionCard({ c }: { c: Change }) {
  const q = c.question!;
  const [text, setText] = useState("");
  const keep = useAnswer(c);
  const act = useMutation({
    mutationFn: (v: { action: Action; text: string }) =>
      ask(
        api.POST("/changes/{id}/{action}", {
          params: { path: { id: c.id, action: v.action } },
          body: { text: v.text },
        }),
      ),
    ...keep,
  });
  const go = useNavigate();
  const work = useMutation({
    mutationFn: () => ask(api.POST("/conversions", { body: { source: { backup: q.backup! }, to: q.to! } })),
    onSuccess: (d) => go(`/configurations/${d.id}`),
  });
  return (
    <section
      role="alert"
      id="question"
      className="space-y-3 rounded-md border-2 border-amber-700/60 bg-amber-50 p-4 dark:bg-amber-950/40"
    >
      <h2 className="flex items-center gap-2 font-semibold text-amber-900 dark:text-amber-200">
        <Mark state="held" /> {heads[q.kind]}
      </h2>
      <p className="whitespace-pre-wrap">{q.text}</p>
      {q.kind === "hand-step" && q.answers.includes("sign-off") && <Attached c={c} step={q.step} add />}
      <Field
        label={q.answers.includes("accept") ? "Why it is accepted" : "What was seen"}
        name="words"
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <div className="flex flex-wrap gap-2">
        {q.backup && q.to && (
          <Button
            id="work-out"
            kind="main"
            title="A conversion of this configuration is begun; come back here once it is complete."
            disabled={work.isPending}
            onClick={() => work.mutate()}
          >
            Work it out
          </Button>
        )}
        {q.answers
          .filter((a) => c.actions.includes(a))
          .map((a) => (
            <Button
              key={a}
              id={a}
              kind={answers[a]?.kind}
              title={answers[a]?.hint}
              disabled={act.isPending || (a === "accept" && text.trim().length < 3)}
              onClick={() => act.mutate({ action: a, text: text.trim() })}
            >
              {answers[a]?.name ?? a}
            </Button>
          ))}
      </div>
      <Trouble error={act.error ?? work.error} />
      {q.answers.includes("go-back") && c.kind !== "replace" && <Losses what="change" id={c.id} />}
    </section>
  );
}
