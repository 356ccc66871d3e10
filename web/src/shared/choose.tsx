// Chooses one of many by typing a part of it: the service looks, and only what fits is drawn.
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from "@headlessui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useRef } from "react";
import { api, ask, type Backup } from "./api";
import { time } from "./format";
import { useFind, type Page } from "./list";
import { Trouble } from "./ui";

const most = 20;

function Choose<T>({
  label,
  hint,
  kind,
  value,
  text,
  id,
  load,
  onChange,
}: {
  label: string;
  hint: string;
  /** What is chosen among, as the key of its queries. */
  kind: string;
  value?: T;
  text: (x: T) => string;
  id: (x: T) => string | number;
  load: (find?: string) => Promise<Page<T>>;
  onChange: (x: T) => void;
}) {
  const { setText, find } = useFind();
  const input = useRef<HTMLInputElement>(null); // what is typed next replaces what was chosen
  const query = useQuery({
    queryKey: [kind, "choose", find],
    queryFn: () => load(find),
    placeholderData: keepPreviousData,
  });
  return (
    <div>
      <Combobox
        immediate
        value={value ?? null}
        by={(a: T | null, b: T | null) => (a && id(a)) === (b && id(b))}
        onChange={(x) => x && onChange(x)}
        onClose={() => {
          setText("");
          requestAnimationFrame(() => input.current === document.activeElement && input.current?.select());
        }}
      >
        <label className="block">
          <span className="mb-1 block text-xs font-semibold">{label}</span>
          <ComboboxInput
            ref={input}
            type="search"
            placeholder={hint}
            displayValue={(x: T | null) => (x ? text(x) : "")}
            onChange={(e) => setText(e.target.value)}
            onFocus={(e) => e.target.select()}
            className="w-full rounded-sm border border-slate-400 bg-transparent px-2 py-1.5 dark:border-slate-600"
          />
        </label>
        <ComboboxOptions
          modal={false}
          className="max-h-60 overflow-y-auto rounded-b-sm border border-t-0 border-slate-400 dark:border-slate-600"
        >
          {query.data?.items.map((x) => (
            <ComboboxOption
              key={id(x)}
              value={x}
              className="px-2 py-1 data-focus:bg-slate-200 dark:data-focus:bg-slate-700"
            >
              {text(x)}
            </ComboboxOption>
          ))}
          {query.data?.items.length === 0 && <p className="px-2 py-1">Nothing fits.</p>}
          {query.data?.next && <p className="px-2 py-1 text-xs">There are more; type a part of what you look for.</p>}
        </ComboboxOptions>
      </Combobox>
      <Trouble error={query.error} />
    </div>
  );
}

export const ChooseBackup = ({ value, onChange }: { value?: Backup; onChange: (b: Backup) => void }) => (
  <Choose
    label="A backup"
    hint="Device, model or version"
    kind="backups"
    value={value}
    text={(b) => `${b.device}, ${b.version}, ${time(b.takenAt)} (backup ${b.id})`}
    id={(b) => b.id}
    load={(find) => ask(api.GET("/backups", { params: { query: { find, limit: most } } }))}
    onChange={onChange}
  />
);

type Named = { name: string };

/** Chooses a device by its name; what is known of the one that is chosen so far is its name. */
export const ChooseDevice = ({
  label,
  value,
  onChange,
}: {
  label: string;
  value: string;
  onChange: (name: string) => void;
}) => (
  <Choose<Named>
    label={label}
    hint="Name, site, model or version"
    kind="devices"
    value={{ name: value }}
    text={(d) => d.name}
    id={(d) => d.name}
    load={(find) => ask(api.GET("/devices", { params: { query: { find, limit: most } } }))}
    onChange={(d) => onChange(d.name)}
  />
);
