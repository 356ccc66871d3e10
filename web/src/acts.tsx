// A change of single steps, put together by hand: what stands alone, in the order in which it is to be done.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router-dom";
import { api, ask, newKey, pages, type Device, type S } from "./api";
import { Pick } from "./paths";
import { Ask, Button, Field, Trouble } from "./ui";

type Act = S["Act"];
type Kind = Act["kind"];

/** What each kind is called, and which field it takes. */
const kinds: Record<Kind, { name: string; field?: "file" | "files" | "part" | "text" | "licence" }> = {
  backup: { name: "Take a backup" }, send: { name: "Send image", field: "file" }, checksum: { name: "Compare checksum on device", field: "file" },
  install: { name: "Install into the idle slot", field: "file" }, "choose-slot": { name: "Choose slot for next start" }, restart: { name: "Restart, and wait for services" },
  component: { name: "Update component", field: "file" }, power: { name: "Power off and on", field: "part" }, "clean-up": { name: "Remove files", field: "files" },
  licence: { name: "Add licence", field: "licence" }, clone: { name: "Copy the running installation" }, drain: { name: "Drain" }, undrain: { name: "Return to service" },
  save: { name: "Save configuration" }, hand: { name: "By hand", field: "text" },
};

const words: Record<"file" | "files" | "part" | "text", string> = { file: "File, as the catalogue names it", files: "Files, with commas", part: "Part", text: "What is to be done" };

const told = (a: Act) => `${kinds[a.kind].name}${a.once ? ", once" : ""}${[a.file, a.part, a.text, a.files?.join(", ")].filter(Boolean).map((x) => `: ${x}`).join("")}`;

export function ActsDialog({ d, open, onClose }: { d: Device; open: boolean; onClose: () => void }) {
  const go = useNavigate();
  const [acts, setActs] = useState<Act[]>([]);
  const [kind, setKind] = useState<Kind>("backup");
  const [arg, setArg] = useState("");
  const [key, setKey] = useState("");
  const [once, setOnce] = useState(false);
  const images = useQuery({ queryKey: ["images"], enabled: open, queryFn: () => pages((cursor) => ask(api.GET("/images", { params: { query: { cursor, limit: 500 } } }))) });
  const fitting = (images.data ?? []).filter((i) => d.portrait && i.models.includes(d.portrait.model));
  const field = kinds[kind].field;
  const add = () => {
    const a: Act = { kind };
    if (field === "files") a.files = arg.split(",").map((f) => f.trim()).filter(Boolean);
    else if (field === "licence") { a.part = arg; a.key = key; }
    else if (field) a[field] = arg.trim();
    if (kind === "choose-slot" && once) a.once = true;
    setActs([...acts, a]);
    setArg(""); setKey("");
  };
  const draft = useMutation({
    mutationFn: () => ask(api.POST("/changes", { params: { header: { "Idempotency-Key": newKey() } }, body: { device: d.name, to: "acts", acts } })),
    onSuccess: (c) => go(`/changes/${c.id}`),
  });
  return (
    <Ask open={open} onClose={onClose} title={`Single steps on ${d.name}`}>
      <p>They are done in this order, between a check and a verdict that compares with the readings from before.</p>
      <ol id="acts" className="list-decimal space-y-1 pl-6">
        {acts.map((a, i) => <li key={i}><span className="flex items-center gap-2">{told(a)}<Button aria-label={`Take step ${i + 1} out`} onClick={() => setActs(acts.filter((_, k) => k !== i))}>Take out</Button></span></li>)}
      </ol>
      <form className="space-y-3" onSubmit={(e) => { e.preventDefault(); add(); }}>
        <Pick id="act" label="Step" value={kind} onChange={(v) => { setKind(v as Kind); setArg(""); }}>{Object.entries(kinds).map(([k, v]) => <option key={k} value={k}>{v.name}</option>)}</Pick>
        {field === "licence" && <div className="grid grid-cols-2 gap-3"><Field label="Licence" name="act-arg" value={arg} onChange={(e) => setArg(e.target.value)} /><Field label="Key" name="act-key" type="password" autoComplete="off" value={key} onChange={(e) => setKey(e.target.value)} /></div>}
        {field && field !== "licence" && <Field label={words[field]} name="act-arg" list={field === "file" ? "fitting" : undefined} value={arg} onChange={(e) => setArg(e.target.value)} />}
        <datalist id="fitting">{fitting.map((i) => <option key={i.sha256} value={i.file} />)}</datalist>
        {kind === "choose-slot" && <label className="flex items-center gap-2"><input type="checkbox" name="once" checked={once} onChange={(e) => setOnce(e.target.checked)} /> for the next start only</label>}
        <Button id="add-act" type="submit" disabled={!!field && !arg.trim()}>Add this step</Button>
      </form>
      <Trouble error={draft.error ?? images.error} />
      <div className="flex justify-end gap-2"><Button onClick={onClose}>Not now</Button><Button id="draft-acts" kind="main" disabled={acts.length === 0 || draft.isPending} onClick={() => draft.mutate()}>Draft a change</Button></div>
    </Ask>
  );
}
