// The dialogs of a device: rollback, credentials, host key, settings.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router-dom";
import { api, ask, newKey, type Device, type S } from "../shared/api";
import { Losses } from "../changes/wayback";
import { Actions, Ask, Button, Field, Form, Pick, Trouble } from "../shared/ui";

export function BackDialog({ d, open, onClose }: { d: Device; open: boolean; onClose: () => void }) {
  const go = useNavigate();
  const [carry, setCarry] = useState(false);
  const draft = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/changes", {
          params: { header: { "Idempotency-Key": newKey() } },
          body: { device: d.name, to: "previous", back: true, carry: carry || undefined },
        }),
      ),
    onSuccess: (c) => go(`/changes/${c.id}`),
  });
  return (
    <Form
      open={open}
      onClose={onClose}
      title={`Start the previous installation of ${d.name} again`}
      action="Draft a change"
      id="draft-back"
      cancel="Not now"
      request={draft}
      onSubmit={() => draft.mutate()}
    >
      <p>
        This is another installation of the firmware with the configuration that was saved under it. It is not the same
        as putting back a backup of the configuration.
      </p>
      {open && <Losses what="device" name={d.name} carry={carry} />}
      <label className="flex items-center gap-2">
        <input type="checkbox" name="carry" checked={carry} onChange={(e) => setCarry(e.target.checked)} /> carry the
        configuration of now across: it is converted and put onto the previous installation
      </label>
    </Form>
  );
}

export function CredentialsDialog({ name, open, onClose }: { name: string; open: boolean; onClose: () => void }) {
  const empty = { user: "", password: "", privilegedPassword: "" };
  const [v, setV] = useState(empty);
  const put = useMutation({
    mutationFn: () => ask(api.PUT("/devices/{name}/credentials", { params: { path: { name } }, body: v })),
    onSuccess: () => {
      setV(empty);
      onClose();
    },
  });
  const field = (key: keyof typeof empty, label: string, type: string) => (
    <Field
      label={label}
      type={type}
      autoComplete="off"
      value={v[key]}
      onChange={(e) => setV({ ...v, [key]: e.target.value })}
    />
  );
  return (
    <Form
      open={open}
      onClose={onClose}
      title={`Replace the credentials of ${name}`}
      action="Replace"
      request={put}
      onSubmit={() => put.mutate()}
    >
      <p>They are encrypted at once and never shown again.</p>
      {field("user", "User", "text")}
      {field("password", "Password", "password")}
      {field("privilegedPassword", "Password of the privileged level", "password")}
    </Form>
  );
}

export function KeyDialog({
  name,
  pinned,
  open,
  onClose,
}: {
  name: string;
  pinned: boolean;
  open: boolean;
  onClose: () => void;
}) {
  const queries = useQueryClient();
  const [hostKey, setHostKey] = useState("");
  const done = () => {
    setHostKey("");
    queries.invalidateQueries({ queryKey: ["device", name] });
    onClose();
  };
  const forget = useMutation({
    mutationFn: () => ask(api.DELETE("/devices/{name}/host-key", { params: { path: { name } } })),
    onSuccess: done,
  });
  const pin = useMutation({
    mutationFn: () => ask(api.PUT("/devices/{name}/host-key", { params: { path: { name } }, body: { hostKey } })),
    onSuccess: done,
  });
  return (
    <Ask open={open} onClose={onClose} title={`The pinned keys of ${name}`}>
      <p>
        {pinned
          ? "Another key than the pinned one is refused, of SSH and of certificates. Forget them only when the device was replaced or reinstalled."
          : "The next contact pins the key it finds, unless it is given here."}
      </p>
      <Field
        label="Known key, in authorized-keys form"
        name="host-key"
        value={hostKey}
        onChange={(e) => setHostKey(e.target.value)}
      />
      <Trouble error={forget.error ?? pin.error} />
      <Actions>
        <Button onClick={onClose}>Leave it</Button>
        {pinned && (
          <Button kind="risk" disabled={forget.isPending} onClick={() => forget.mutate()}>
            Forget them
          </Button>
        )}
        <Button kind="main" disabled={!hostKey || pin.isPending} onClick={() => pin.mutate()}>
          Pin this key
        </Button>
      </Actions>
    </Ask>
  );
}

/** The settings of a device: how it is reached where its address is not enough, how images get onto it, and the groups it belongs to. */
export function SettingsFields({ v, onChange }: { v: Settings; onChange: (v: Settings) => void }) {
  const text = (
    value: string | undefined,
    change: (to: string) => Settings,
    more: { label: string; hint?: string; name: string },
  ) => <Field {...more} value={value ?? ""} onChange={(e) => onChange(change(e.target.value))} />;
  const reach = (more: S["Reach"]) => ({ ...v, reach: { ...v.reach, ...more } });
  return (
    <>
      <div className="grid grid-cols-2 gap-3">
        {text(v.groups?.join(","), (to) => ({ ...v, groups: to.split(",").map((g) => g.trimStart()) }), {
          label: "Groups",
          hint: "with commas; keys and schedules can be for a group",
          name: "groups",
        })}
        {text(v.web, (to) => ({ ...v, web: to.trim() }), {
          label: "Web side",
          hint: "URL, where parts of its backup are fetched over HTTP",
          name: "web",
        })}
        <Pick
          id="transfer"
          label="Images"
          value={v.transfer ?? "sftp"}
          onChange={(to) => onChange({ ...v, transfer: to as S["Transfer"] })}
        >
          <option value="sftp">are pushed over SFTP, or as its dialect says</option>
          <option value="http">are fetched by the device over HTTP</option>
          <option value="https">are fetched by the device over HTTPS</option>
          <option value="pull-sftp">are fetched by the device over SFTP</option>
          <option value="ftp">are fetched by the device over FTP</option>
          <option value="tftp">are fetched by the device over TFTP</option>
        </Pick>
        {text(v.reach?.console, (to) => reach({ console: to || undefined }), {
          label: "Console line",
          hint: "host:port at a console server",
          name: "console",
        })}
        {text(v.reach?.via, (to) => reach({ via: to || undefined }), {
          label: "Through",
          hint: "device that is signed in to first",
          name: "via",
        })}
        {text(v.reach?.enter, (to) => reach({ enter: to || undefined }), {
          label: "Command there",
          hint: "opens a session into a module; empty: the connection is passed on",
          name: "enter",
        })}
        <Services v={v} onChange={onChange} />
        {text((v.probes ?? []).join(", "), (to) => ({ ...v, probes: to.split(",") }), {
          label: "Probes",
          hint: "asked all the time while a change runs: URLs or tcp:host:port, with commas",
          name: "probes",
        })}
      </div>
      <label className="flex items-center gap-2">
        <input
          type="checkbox"
          name="only"
          checked={!!v.reach?.only}
          onChange={(e) => onChange(reach({ only: e.target.checked || undefined }))}
        />{" "}
        The console line is the only way
      </label>
    </>
  );
}

type Settings = S["DeviceSettings"];

/** Where management protocols are offered. What is typed stays as it is typed until it says something. */
function Services({ v, onChange }: { v: Settings; onChange: (v: Settings) => void }) {
  const [typed, setTyped] = useState(
    Object.entries(v.services ?? {})
      .map(([protocol, at]) => `${protocol}=${at}`)
      .join(", "),
  );
  return (
    <Field
      label="Management protocols"
      hint="protocol=host:port, with commas, where that is not the usual port"
      name="services"
      value={typed}
      onChange={(e) => {
        setTyped(e.target.value);
        onChange({ ...v, services: readServices(e.target.value) });
      }}
    />
  );
}

const readServices = (text: string): Settings["services"] =>
  Object.fromEntries(
    text
      .split(",")
      .map((s) => s.trim())
      .filter(Boolean)
      .map((s) => [s.split("=")[0], s.split("=").slice(1).join("=")]),
  );

/** Settings as they are sent: groups without the blanks and commas that were typed. */
export const entered = (v: Settings): Settings => ({ ...v, groups: words(v.groups), probes: words(v.probes) });

const words = (list?: string[]) => list?.map((g) => g.trim()).filter(Boolean);

export function SettingsDialog({ d, open, onClose }: { d: Device; open: boolean; onClose: () => void }) {
  const queries = useQueryClient();
  const [v, setV] = useState<Settings>({
    groups: d.groups,
    web: d.web ?? "",
    transfer: d.transfer,
    reach: d.reach ?? {},
    services: d.services ?? {},
    probes: d.probes ?? [],
  });
  const set = useMutation({
    mutationFn: () => ask(api.PATCH("/devices/{name}", { params: { path: { name: d.name } }, body: entered(v) })),
    onSuccess: (x) => {
      queries.setQueryData(["device", d.name], x);
      onClose();
    },
  });
  return (
    <Form
      open={open}
      onClose={onClose}
      title={`Settings of ${d.name}`}
      action="Write"
      id="write-settings"
      request={set}
      onSubmit={() => set.mutate()}
    >
      <SettingsFields v={v} onChange={setV} />
    </Form>
  );
}
