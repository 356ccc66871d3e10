// A configuration that somebody chooses: from a backup or a file, of a model and release.
import { useQuery } from "@tanstack/react-query";
import { api, ask, type Backup, type ConfigurationSource } from "../shared/api";
import { ChooseBackup } from "../shared/choose";
import { Field, Pick } from "../shared/ui";

/** What is filled in for one side: a backup, or a file with what wrote it. It lives in the parent, so that what a button sends is what the fields say. */
type Filled = { backup?: Backup; file?: { name: string; text: string }; from: string };

export type Fill<T> = (change: (now: T) => T) => void;

export const unfilled: Filled = { from: "" };

export function sourceOf({ backup, file, from }: Filled): ConfigurationSource | undefined {
  if (file) return from ? { name: file.name, text: file.text, from } : undefined;
  return backup && { backup: backup.id };
}

/** Chooses a backup, or takes a text with what wrote it. */
export function Source({
  label,
  value: { backup, file, from },
  onChange,
}: {
  label: string;
  value: Filled;
  onChange: Fill<Filled>;
}) {
  return (
    <fieldset className="space-y-2">
      <legend className="font-semibold">{label}</legend>
      <ChooseBackup
        value={file ? undefined : backup}
        onChange={(b) => onChange((now) => ({ ...now, file: undefined, backup: b }))}
      />
      <label className="block">
        <span className="mb-1 block text-xs font-semibold">or a file</span>
        <input
          type="file"
          aria-label={`${label}: a file`}
          onChange={async (e) => {
            const f = e.target.files?.[0];
            const file = f && { name: f.name, text: await f.text() };
            onChange((now) => ({ ...now, file }));
          }}
          className="w-full text-sm"
        />
      </label>
      {file && (
        <Field
          label="Written by"
          hint="MODEL@VERSION, such as TH-60@4.2.9"
          value={from}
          onChange={(e) => {
            const from = e.target.value.trim();
            onChange((now) => ({ ...now, from }));
          }}
        />
      )}
    </fieldset>
  );
}

/** Model and release to convert to. */
export function Target({ value, onChange }: { value: string; onChange: (v: string) => void }) {
  const catalogue = useQuery({ queryKey: ["catalogue"], queryFn: () => ask(api.GET("/catalogue")) });
  const [model, version] = [value.split("@")[0], value.split("@")[1] ?? ""];
  const family = catalogue.data?.items.find((f) => f.models.includes(model))?.family;
  const releases = useQuery({
    queryKey: ["releases", model],
    enabled: !!family,
    queryFn: () => ask(api.GET("/models/{model}/releases", { params: { path: { model } } })),
  });
  return (
    <fieldset className="space-y-2">
      <legend className="font-semibold">For</legend>
      <Pick label="Model" value={model} onChange={(m) => onChange(m + "@")}>
        <option value="">choose one</option>
        {catalogue.data?.items.map((f) => (
          <optgroup key={f.family} label={f.maker}>
            {f.models.map((m) => (
              <option key={m}>{m}</option>
            ))}
          </optgroup>
        ))}
      </Pick>
      <Pick label="Release" value={version} onChange={(v) => onChange(`${model}@${v}`)}>
        <option value="">choose one</option>
        {releases.data?.items
          .filter((r) => r.runs)
          .map((r) => (
            <option key={r.version}>{r.version}</option>
          ))}
      </Pick>
    </fieldset>
  );
}
