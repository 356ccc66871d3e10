// Where a device should go: the aim, the path, and the draft of a change.
import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router-dom";
import { api, ask, newKey, type Device, type Release, type S } from "../shared/api";
import { HopList, NoPath, PathLine } from "../paths/pathline";
import { Badge, Button, Card, Field, Muted, Pick, Trouble } from "../shared/ui";

/** Words with commas between them. */
const words = (text: string) =>
  text
    .split(",")
    .map((w) => w.trim())
    .filter(Boolean);

export function PathFinder({ device, version }: { device: Device; version: string }) {
  const name = device.name;
  const go = useNavigate();
  const [to, setTo] = useState<Release | null>(null);
  const [reset, setReset] = useState(false);
  const [previews, setPreviews] = useState(false);
  const releases = useQuery({
    queryKey: ["releases", name, device.portrait?.model],
    queryFn: () => ask(api.GET("/devices/{name}/releases", { params: { path: { name } } })),
  });
  const [toModel, setToModel] = useState("");
  const others = useQuery({
    queryKey: ["releases of", toModel],
    enabled: !!toModel,
    queryFn: () => ask(api.GET("/models/{model}/releases", { params: { path: { model: toModel } } })),
  });
  const offered = (toModel ? others.data?.items : releases.data?.items) ?? [];
  const [licences, setLicences] = useState<S["NewLicence"][]>([]);
  const aim = to && { to: to.version, toModel: toModel || undefined, reset, previews };
  const path = useQuery({
    queryKey: ["path", name, version, aim, licences.map((l) => l.name)],
    enabled: !!aim,
    queryFn: () =>
      ask(
        api.POST("/devices/{name}/path", {
          params: { path: { name } },
          body: { ...aim!, withLicences: licences.map((l) => l.name) },
        }),
      ),
  });
  const [cleanUp, setCleanUp] = useState("");
  const [comesBackAt, setComesBackAt] = useState("");
  const [both, setBoth] = useState(false);
  const [together, setTogether] = useState(false);
  const [authorise, setAuthorise] = useState("");
  const draft = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/changes", {
          params: { header: { "Idempotency-Key": newKey() } },
          body: {
            device: name,
            ...aim!,
            cleanUp: words(cleanUp),
            authorise: authorise ? words(authorise) : undefined,
            together: together || undefined,
            comesBackAt: comesBackAt.trim() || undefined,
            both: both || undefined,
            licences: licences.length ? licences : undefined,
          },
        }),
      ),
    onSuccess: (c) => go(`/changes/${c.id}`),
  });
  return (
    <Card title="Where should it go?">
      <div className="flex flex-wrap items-center gap-4">
        <Listbox value={to} onChange={setTo}>
          <ListboxButton
            id="aim"
            className="flex w-64 items-center justify-between rounded-sm border border-slate-400 px-3 py-1.5 text-left dark:border-slate-600"
          >
            {to ? <span className="font-mono">{to.version}</span> : "Choose a release"} <span aria-hidden>▾</span>
          </ListboxButton>
          <ListboxOptions
            anchor="bottom start"
            className="z-20 max-h-80 w-64 overflow-auto rounded-md border border-line bg-white p-1 shadow-lg dark:border-nightline dark:bg-deck"
          >
            {offered.map((r) => (
              <ListboxOption
                key={r.version}
                value={r}
                disabled={r.version === version && !toModel}
                className="flex items-center gap-2 rounded-sm px-2 py-1.5 data-disabled:opacity-50 data-focus:bg-slate-100 dark:data-focus:bg-slate-700"
              >
                <span className="font-mono">{r.version}</span>
                <Badge state={r.stage} />
                <span className="ml-auto text-xs text-slate-600 dark:text-slate-400">
                  {r.version === version && !toModel ? "runs now" : r.runs ? "" : "not for it"}
                </span>
              </ListboxOption>
            ))}
          </ListboxOptions>
        </Listbox>
        {(releases.data?.goesOnAs?.length ?? 0) > 0 && (
          <Pick label="Goes on as" id="to-model" value={toModel} onChange={setToModel}>
            <option value="">{device.portrait?.model}</option>
            {releases.data!.goesOnAs!.map((m) => (
              <option key={m}>{m}</option>
            ))}
          </Pick>
        )}
        <label className="flex items-center gap-1.5">
          <input type="checkbox" checked={reset} onChange={(e) => setReset(e.target.checked)} /> the configuration may
          be reset
        </label>
        <label className="flex items-center gap-1.5">
          <input type="checkbox" checked={previews} onChange={(e) => setPreviews(e.target.checked)} /> previews may be
          used
        </label>
        <Link className="ml-auto underline" to={`/paths?model=${device.portrait?.model}&from=${version}`}>
          Explore on the lines
        </Link>
        {path.data?.found && path.data.hops.length > 0 && (
          <Button kind="main" id="draft" disabled={draft.isPending} onClick={() => draft.mutate()}>
            Draft a change
          </Button>
        )}
      </div>
      <div className="mt-4 space-y-4">
        {aim && !(path.data?.found && path.data.hops.length === 0) && (
          <details className="text-slate-600 dark:text-slate-400">
            <summary id="more" className="cursor-pointer">
              More about the change
            </summary>
            <div className="mt-2 grid gap-3 md:grid-cols-2">
              <Field
                label="Files to remove from the device first"
                name="clean-up"
                hint="with commas; only these are removed, and none that the change sends"
                value={cleanUp}
                onChange={(e) => setCleanUp(e.target.value)}
              />
              <Field
                label="It comes back at another address"
                name="comes-back-at"
                hint="host:port; empty: where it is now. Its host key has to be the known one"
                value={comesBackAt}
                onChange={(e) => setComesBackAt(e.target.value)}
              />
              <Licences given={licences} onChange={setLicences} />
              {device.portrait?.children && (
                <Field
                  label="New access points that are let join"
                  name="authorise"
                  hint="serials, and ranges FROM..TO of them, with commas; nobody else is let join"
                  value={authorise}
                  onChange={(e) => setAuthorise(e.target.value)}
                />
              )}
              {(device.portrait?.units?.length ?? 0) > 1 && (
                <label className="flex items-start gap-1.5">
                  <input
                    type="checkbox"
                    name="together"
                    className="mt-1"
                    checked={together}
                    onChange={(e) => setTogether(e.target.checked)}
                  />
                  <span>
                    restart all units together, also where they could go one after the other.{" "}
                    <b>Whoever they serve is cut off meanwhile.</b>
                  </span>
                </label>
              )}
              {(device.portrait?.slots.length ?? 0) > 1 && (
                <label className="flex items-start gap-1.5">
                  <input
                    type="checkbox"
                    name="both"
                    className="mt-1"
                    checked={both}
                    onChange={(e) => setBoth(e.target.checked)}
                  />
                  <span>
                    install it into the other slot, too, once the readings are as expected.{" "}
                    <b>That overwrites the previous installation: nothing leads back then.</b>
                  </span>
                </label>
              )}
            </div>
          </details>
        )}
        <Trouble error={draft.error ?? path.error ?? releases.error} />
        {path.data &&
          (!path.data.found ? (
            <NoPath path={path.data} />
          ) : path.data.hops.length === 0 ? (
            <p>It runs {path.data.to} already.</p>
          ) : (
            <>
              <PathLine key={path.data.to} path={path.data} />
              <HopList path={path.data} />
              {path.data.notes.map((n, i) => (
                <p key={i} className="text-slate-600 dark:text-slate-400">
                  {n}
                </p>
              ))}
            </>
          ))}
      </div>
    </Card>
  );
}

/** Licences that the device is given first. Their keys are typed in, and never shown. */
function Licences({ given, onChange }: { given: S["NewLicence"][]; onChange: (l: S["NewLicence"][]) => void }) {
  const [name, setName] = useState("");
  const [key, setKey] = useState("");
  const add = () => {
    onChange([...given.filter((l) => l.name !== name.trim()), { name: name.trim(), key: key.trim() }]);
    setName("");
    setKey("");
  };
  return (
    <form
      id="licences"
      onSubmit={(e) => {
        e.preventDefault();
        add();
      }}
    >
      <div className="flex items-end gap-2">
        <Field
          label="Licence it is given first"
          name="licence"
          autoComplete="off"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Field
          label="Its key; empty: from the licence service"
          name="licence-key"
          type="password"
          autoComplete="off"
          value={key}
          onChange={(e) => setKey(e.target.value)}
        />
        <Button id="add-licence" type="submit" disabled={!name.trim()}>
          Add
        </Button>
      </div>
      <ul className="mt-1 space-y-1">
        {given.map((l) => (
          <li key={l.name} className="flex items-center gap-2">
            <span className="font-mono">{l.name}</span>
            {!l.key && <Muted>from the licence service</Muted>}
            <Button aria-label={`Take out licence ${l.name}`} onClick={() => onChange(given.filter((g) => g !== l))}>
              Take out
            </Button>
          </li>
        ))}
      </ul>
    </form>
  );
}
