// A change of single operations, put together by hand: what stands alone, in the order in which it is to be done. Which operations there
// are, and what each takes, is told by the service.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router-dom";
import { api, ask, newKey, pages, type Device, type S } from "../shared/api";
import { Actions, Ask, Button, Field, Pick, Trouble } from "../shared/ui";

type Operation = S["Operation"];
type Takes = NonNullable<S["StepKind"]["operation"]>["takes"];

/** How the field is called for what an operation takes; an operation that is not here takes no field. */
const fields: Partial<Record<Takes, string>> = {
  image: "File, as the catalogue names it",
  files: "Files, with commas",
  part: "Part",
  text: "What is to be done",
  licence: "Licence",
  once: "Slot; empty: the one just written, else the idle one",
  slot: "Name of the copy",
  name: "Name of the copy",
};

/** How the second field is called, for what takes two. */
const seconds: Partial<Record<Takes, string>> = { licence: "Key; empty: from the licence service", name: "New name" };

/** The operation of a kind with what was typed into its fields. */
export function operationOf(kind: string, takes: Takes, arg: string, key: string, once: boolean): Operation {
  const value = arg.trim();
  switch (takes) {
    case "image":
      return { kind, file: value };
    case "files":
      return {
        kind,
        files: value
          .split(",")
          .map((f) => f.trim())
          .filter(Boolean),
      };
    case "part":
      return { kind, part: value };
    case "text":
      return { kind, text: value };
    case "licence":
      return { kind, part: value, key };
    case "once":
      return { kind, ...(once && { once }), ...(value && { slot: value }) };
    case "slot":
      return { kind, slot: value };
    case "name":
      return { kind, slot: value, name: key.trim() };
    default:
      return { kind };
  }
}

/** An operation in one line, without its key. */
export const told = (title: string, o: Operation) =>
  `${title}${o.once ? ", once" : ""}${[o.file, o.part, o.text, o.files?.join(", "), o.slot, o.name]
    .filter(Boolean)
    .map((x) => `: ${x}`)
    .join("")}`;

export function OperationsDialog({ d, open, onClose }: { d: Device; open: boolean; onClose: () => void }) {
  const go = useNavigate();
  const [list, setList] = useState<Operation[]>([]);
  const [kind, setKind] = useState("backup");
  const [arg, setArg] = useState("");
  const [key, setKey] = useState("");
  const [once, setOnce] = useState(false);
  const kinds = useQuery({
    queryKey: ["step-kinds"],
    enabled: open,
    staleTime: Infinity,
    queryFn: () => ask(api.GET("/step-kinds")),
  });
  const images = useQuery({
    queryKey: ["images"],
    enabled: open,
    queryFn: () => pages((cursor) => ask(api.GET("/images", { params: { query: { cursor, limit: 500 } } }))),
  });
  const all = (kinds.data?.items ?? []).filter((k) => k.operation);
  const title = (k: string) => all.find((x) => x.kind === k)?.title ?? k;
  const takes = all.find((k) => k.kind === kind)?.operation?.takes ?? "";
  const field = fields[takes];
  const second = seconds[takes];
  const suggested = { image: "fitting", once: "slots", slot: "slots", name: "slots" }[takes as string];
  const fitting = (images.data ?? []).filter((i) => d.portrait && i.models.includes(d.portrait.model));
  const add = () => {
    setList([...list, operationOf(kind, takes, arg, key, once)]);
    setArg("");
    setKey("");
  };
  const draft = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/changes", {
          params: { header: { "Idempotency-Key": newKey() } },
          body: { device: d.name, to: "operations", operations: list },
        }),
      ),
    onSuccess: (c) => go(`/changes/${c.id}`),
  });
  return (
    <Ask open={open} onClose={onClose} title={`Single operations on ${d.name}`}>
      <p>They are done in this order, between a check and a verdict that compares with the readings from before.</p>
      <ol id="operations" className="list-decimal space-y-1 pl-6">
        {list.map((o, i) => (
          <li key={i}>
            <span className="flex items-center gap-2">
              {told(title(o.kind), o)}
              <Button
                aria-label={`Take out operation ${i + 1}`}
                onClick={() => setList(list.filter((_, k) => k !== i))}
              >
                Take out
              </Button>
            </span>
          </li>
        ))}
      </ol>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          add();
        }}
      >
        <Pick
          id="operation"
          label="Operation"
          value={kind}
          onChange={(v) => {
            setKind(v);
            setArg("");
          }}
        >
          {all.map((k) => (
            <option key={k.kind} value={k.kind}>
              {k.title}
            </option>
          ))}
        </Pick>
        {field && (
          <Field
            label={field}
            name="operation-arg"
            list={suggested}
            value={arg}
            onChange={(e) => setArg(e.target.value)}
          />
        )}
        {second && (
          <Field
            label={second}
            name="operation-key"
            type={takes === "licence" ? "password" : "text"}
            autoComplete="off"
            value={key}
            onChange={(e) => setKey(e.target.value)}
          />
        )}
        <datalist id="fitting">
          {fitting.map((i) => (
            <option key={i.sha256} value={i.file} />
          ))}
        </datalist>
        <datalist id="slots">
          {d.portrait?.slots
            .filter((s) => !s.running)
            .map((s) => (
              <option key={s.name} value={s.name} />
            ))}
        </datalist>
        {takes === "once" && (
          <label className="flex items-center gap-2">
            <input type="checkbox" name="once" checked={once} onChange={(e) => setOnce(e.target.checked)} /> for the
            next start only
          </label>
        )}
        <Button id="add-operation" type="submit" disabled={!!field && takes !== "once" && !arg.trim()}>
          Add this operation
        </Button>
      </form>
      <Trouble error={draft.error ?? images.error ?? kinds.error} />
      <Actions>
        <Button onClick={onClose}>Not now</Button>
        <Button
          id="draft-operations"
          kind="main"
          disabled={list.length === 0 || draft.isPending}
          onClick={() => draft.mutate()}
        >
          Draft a change
        </Button>
      </Actions>
    </Ask>
  );
}
