// The dialogs that bring a box under a controller, and have it stand alone again.
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router-dom";
import { api, ask, newKey, type Device, type S } from "../shared/api";
import { Field, Form } from "../shared/ui";

/** Drafts a change and goes to its page. */
function useDraft() {
  const go = useNavigate();
  return useMutation({
    mutationFn: (body: S["NewChange"]) =>
      ask(api.POST("/changes", { params: { header: { "Idempotency-Key": newKey() } }, body })),
    onSuccess: (c) => go(`/changes/${c.id}`),
  });
}

export function JoinDialog({ d, open, onClose }: { d: Device; open: boolean; onClose: () => void }) {
  const [v, setV] = useState({ controller: "", group: "", address: "" });
  const draft = useDraft();
  const field = (key: keyof typeof v, label: string, hint: string) => (
    <Field
      label={label}
      hint={hint}
      name={key}
      value={v[key]}
      onChange={(e) => setV({ ...v, [key]: e.target.value })}
    />
  );
  return (
    <Form
      open={open}
      onClose={onClose}
      title={`Bring ${d.name} under a controller`}
      action={draft.isPending ? "Looking at both ..." : "Draft a change"}
      id="draft-join"
      cancel="Not now"
      ready={v.controller.trim() !== "" && !draft.isPending}
      request={draft}
      onSubmit={() =>
        draft.mutate({
          device: d.name,
          to: "",
          join: {
            controller: v.controller.trim(),
            group: v.group.trim() || undefined,
            address: v.address.trim() || undefined,
          },
        })
      }
    >
      <p>
        It is backed up, converted, let join by its serial, and serves under the release of the controller. It loses its
        own configuration; the way back puts that onto it again.
      </p>
      {field("controller", "Controller", "name of a device or of an ensemble")}
      {field("group", "Group", "whose settings it gets; empty: those that the controller gives")}
      {field("address", "Address", "at which it finds the controller; empty: the one that is known here")}
    </Form>
  );
}

export function ReleaseDialog({ d, open, onClose }: { d: Device; open: boolean; onClose: () => void }) {
  const [empty, setEmpty] = useState(false);
  const draft = useDraft();
  return (
    <Form
      open={open}
      onClose={onClose}
      title={`Have ${d.name} stand alone again`}
      action={draft.isPending ? "Looking at both ..." : "Draft a change"}
      id="draft-release"
      cancel="Not now"
      ready={!draft.isPending}
      request={draft}
      onSubmit={() => draft.mutate({ device: d.name, to: "", release: true, empty: empty || undefined })}
    >
      <p>{d.follows} gives it back. What it was configured with when it stood alone last is put onto it again.</p>
      <label className="flex items-center gap-2">
        <input type="checkbox" name="empty" checked={empty} onChange={(e) => setEmpty(e.target.checked)} /> leave it in
        its factory state
      </label>
    </Form>
  );
}
