// The pieces that every page is made of.
import { Dialog, DialogPanel, DialogTitle, Tab, TabGroup, TabList, TabPanel, TabPanels } from "@headlessui/react";
import {
  Fragment,
  useEffect,
  useLayoutEffect,
  useRef,
  useState,
  type ButtonHTMLAttributes,
  type InputHTMLAttributes,
  type ReactNode,
} from "react";
import { Refused } from "./api";

/** How something stands. Every tone has a mark and a word; colour only helps. */
type Tone = "good" | "bad" | "doubt" | "busy" | "rest";

const toneOf: Record<string, Tone> = {
  done: "good",
  pass: "good",
  met: "good",
  ready: "good",
  preferred: "good",
  kept: "good",
  approved: "good",
  "not-applicable": "rest",
  "no-answer": "bad",
  broken: "bad",
  failed: "bad",
  fail: "bad",
  unmet: "bad",
  withdrawn: "bad",
  reset: "bad",
  degraded: "doubt",
  pausing: "doubt",
  paused: "doubt",
  held: "doubt",
  scheduled: "doubt",
  "not-proven": "doubt",
  "not known": "doubt",
  asking: "doubt",
  returned: "doubt",
  stopped: "doubt",
  starting: "doubt",
  pending: "doubt",
  preview: "doubt",
  converted: "doubt",
  running: "busy",
  "in-change": "busy",
};

const tones: Record<Tone, { text: string; box: string }> = {
  good: { text: "text-teal-800 dark:text-teal-300", box: "border-teal-700/40 bg-teal-50 dark:bg-teal-950/50" },
  bad: { text: "text-rose-800 dark:text-rose-300", box: "border-rose-700/40 bg-rose-50 dark:bg-rose-950/50" },
  doubt: { text: "text-amber-800 dark:text-amber-300", box: "border-amber-700/40 bg-amber-50 dark:bg-amber-950/50" },
  busy: { text: "text-sky-800 dark:text-sky-300", box: "border-sky-700/40 bg-sky-50 dark:bg-sky-950/50" },
  rest: { text: "text-slate-600 dark:text-slate-400", box: "border-line dark:border-nightline" },
};

const shapes: Record<Tone, ReactNode> = {
  good: <path d="M3 8.5 L6.5 12 L13 4.5" />,
  bad: <path d="M4 4 L12 12 M12 4 L4 12" />,
  doubt: <path d="M8 3 L8 9.5 M8 12.2 L8 13" />,
  busy: <path d="M5 3.5 L12 8 L5 12.5 Z" fill="currentColor" />,
  rest: <circle cx="8" cy="8" r="3.2" />,
};

export function Mark({ state }: { state: string }) {
  const tone = toneOf[state] ?? "rest";
  return (
    <svg
      viewBox="0 0 16 16"
      className={`inline-block size-4 shrink-0 ${tones[tone].text}`}
      fill="none"
      stroke="currentColor"
      strokeWidth="2"
      strokeLinecap="round"
      strokeLinejoin="round"
      aria-hidden
    >
      {shapes[tone]}
    </svg>
  );
}

export function Badge({ state, children }: { state: string; children?: ReactNode }) {
  const tone = tones[toneOf[state] ?? "rest"];
  return (
    <span
      className={`inline-flex items-center gap-1 rounded-sm border px-1.5 py-0.5 text-xs font-medium ${tone.box} ${tone.text}`}
    >
      <Mark state={state} />
      {children ?? state}
    </span>
  );
}

/** Scrolls sideways what is wider than the page, with the keyboard as well. It can be reached only while there is something to scroll. */
function Sideways({ label, children }: { label: ReactNode; children: ReactNode }) {
  const box = useRef<HTMLDivElement>(null);
  const [over, setOver] = useState(false);
  const measure = () => box.current && setOver(box.current.scrollWidth > box.current.clientWidth);
  useLayoutEffect(() => void measure()); // whatever is drawn may be wider than what was there before
  useEffect(() => {
    window.addEventListener("resize", measure);
    return () => window.removeEventListener("resize", measure);
  }, []);
  const reachable = over && { tabIndex: 0, role: "group", "aria-label": typeof label === "string" ? label : "Table" };
  return (
    <div ref={box} className="overflow-x-auto p-4" {...reachable}>
      {children}
    </div>
  );
}

export function Card({ title, aside, children }: { title?: ReactNode; aside?: ReactNode; children: ReactNode }) {
  return (
    <section className="rounded-md border border-line bg-white dark:border-nightline dark:bg-deck">
      {title && (
        <header className="flex items-center justify-between gap-4 border-b border-line px-4 py-2 dark:border-nightline">
          <h2 className="font-semibold">{title}</h2>
          {aside}
        </header>
      )}
      <Sideways label={title}>{children}</Sideways>
    </section>
  );
}

export function Button({
  kind = "plain",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { kind?: "plain" | "main" | "risk" }) {
  const look = {
    plain: "border-slate-400 hover:bg-slate-100 dark:border-slate-500 dark:hover:bg-slate-700",
    main: "border-brass bg-brass text-white hover:brightness-110 dark:border-brasslight dark:bg-brasslight dark:text-night",
    risk: "border-rose-700 text-rose-800 hover:bg-rose-50 dark:border-rose-400 dark:text-rose-300 dark:hover:bg-rose-950",
  }[kind];
  return (
    <button
      type="button"
      {...rest}
      className={`rounded-sm border px-3 py-1.5 font-medium whitespace-nowrap disabled:opacity-50 ${look} ${rest.className ?? ""}`}
    />
  );
}

export function Field({
  label,
  hint,
  ...rest
}: InputHTMLAttributes<HTMLInputElement> & { label: string; hint?: string }) {
  return (
    <label className="block">
      <span className="mb-1 block text-xs font-semibold">{label}</span>
      <input
        {...rest}
        className="w-full rounded-sm border border-slate-400 bg-transparent px-2 py-1.5 dark:border-slate-600"
      />
      {hint && <span className="mt-1 block text-xs text-slate-600 dark:text-slate-400">{hint}</span>}
    </label>
  );
}

/** Chooses one of a few. */
export function Pick({
  label,
  value,
  onChange,
  children,
  id,
}: {
  label: string;
  value: string;
  onChange: (v: string) => void;
  children: ReactNode;
  id?: string;
}) {
  return (
    <label className="block">
      <span className="mb-1 block text-xs font-semibold">{label}</span>
      <select
        id={id}
        value={value}
        onChange={(e) => onChange(e.target.value)}
        className="w-full rounded-sm border border-slate-400 bg-transparent px-2 py-1.5 dark:border-slate-600 dark:bg-deck"
      >
        {children}
      </select>
    </label>
  );
}

/** What went wrong, in the service's words, with the rules it cites. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) return null;
  const p = error instanceof Refused ? error.problem : { title: "Something broke", detail: String(error) };
  return (
    <div role="alert" className={`rounded-md border p-3 ${tones.bad.box}`}>
      <p className={`flex items-center gap-2 font-semibold ${tones.bad.text}`}>
        <Mark state="failed" /> {p.title}
      </p>
      <p className="mt-1 whitespace-pre-wrap">{p.detail}</p>
      {"nearest" in p && p.nearest && (
        <p className="mt-1">
          The nearest release that can be reached is <b>{p.nearest}</b>.
        </p>
      )}
    </div>
  );
}

export function Ask({
  open,
  title,
  children,
  onClose,
}: {
  open: boolean;
  title: string;
  children: ReactNode;
  onClose: () => void;
}) {
  return (
    <Dialog open={open} onClose={onClose} className="relative z-10">
      <div className="fixed inset-0 bg-black/40" aria-hidden />
      <div className="fixed inset-0 flex overflow-y-auto p-4">
        <DialogPanel className="m-auto w-full max-w-lg space-y-4 rounded-md border border-line bg-paper p-5 shadow-lg dark:border-nightline dark:bg-deck">
          <DialogTitle className="text-base font-semibold">{title}</DialogTitle>
          {children}
        </DialogPanel>
      </div>
    </Dialog>
  );
}

/** A dialog that asks for fields or for certainty. Its button says what it does; what went wrong stands above it. The caller closes it. */
export function Form({
  open = true,
  title,
  action,
  id,
  kind = "main",
  cancel = "Cancel",
  ready = true,
  request,
  onSubmit,
  onClose,
  children,
}: {
  open?: boolean;
  title: string;
  action: string;
  id?: string; // of the button
  kind?: "main" | "risk";
  cancel?: string;
  ready?: boolean; // what is needed was entered
  request: { isPending: boolean; error: unknown };
  onSubmit: () => void;
  onClose: () => void;
  children: ReactNode;
}) {
  return (
    <Ask open={open} onClose={onClose} title={title}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          onSubmit();
        }}
      >
        {children}
        <Trouble error={request.error} />
        <Actions>
          <Button onClick={onClose}>{cancel}</Button>
          <Button id={id} kind={kind} type="submit" disabled={request.isPending || !ready}>
            {action}
          </Button>
        </Actions>
      </form>
    </Ask>
  );
}

export type TabOf<K extends string> = { id: K; name: string; show: ReactNode };

/** One of several panels, and the bar that chooses it. */
export function Tabs<K extends string>({
  label,
  tabs,
  chosen,
  onChoose,
  before,
  after,
  bar = "",
  panel = "",
}: {
  label: string;
  /** What is false or undefined is left out. */
  tabs: (TabOf<K> | false | undefined)[];
  /** The one that is shown; left out, the bar alone decides. */
  chosen?: K;
  onChoose?: (id: K) => void;
  before?: ReactNode;
  after?: ReactNode;
  bar?: string; // classes
  panel?: string;
}) {
  const shown = tabs.filter((t) => !!t);
  const index =
    chosen === undefined
      ? undefined
      : Math.max(
          0,
          shown.findIndex((t) => t.id === chosen),
        );
  return (
    <TabGroup as={Fragment} selectedIndex={index} onChange={(i) => onChoose?.(shown[i].id)}>
      <div className={`flex flex-wrap items-center gap-3 ${bar}`}>
        {before}
        <TabList className="flex flex-wrap gap-1" aria-label={label}>
          {shown.map((t) => (
            <Tab
              key={t.id}
              className="rounded-sm border border-slate-400 px-3 py-1.5 font-medium whitespace-nowrap hover:bg-slate-100 data-selected:border-brass data-selected:bg-brass data-selected:text-white dark:border-slate-500 dark:hover:bg-slate-700 dark:data-selected:border-brasslight dark:data-selected:bg-brasslight dark:data-selected:text-night"
            >
              {t.name}
            </Tab>
          ))}
        </TabList>
        {after}
      </div>
      <TabPanels as={Fragment}>
        {shown.map((t) => (
          <TabPanel key={t.id} className={panel}>
            {t.show}
          </TabPanel>
        ))}
      </TabPanels>
    </TabGroup>
  );
}

export function Bar({ fraction, label }: { fraction: number; label: string }) {
  const percent = Math.round(Math.min(Math.max(fraction, 0), 1) * 100);
  return (
    <div
      role="progressbar"
      aria-valuenow={percent}
      aria-valuemin={0}
      aria-valuemax={100}
      aria-label={label}
      className="h-2 w-full overflow-hidden rounded-full bg-slate-200 dark:bg-slate-700"
    >
      <div
        className="h-full rounded-full bg-brass transition-[width] duration-300 dark:bg-brasslight"
        style={{ width: `${percent}%` }}
      />
    </div>
  );
}

export const Waiting = () => <p className="p-6 text-slate-600 dark:text-slate-400">Loading ...</p>;

/** Text that stands back. */
export const Muted = ({
  children,
  small,
  className = "",
}: {
  children: ReactNode;
  small?: boolean;
  className?: string;
}) => <span className={`${muted} ${small ? "text-xs" : ""} ${className}`}>{children}</span>;

/** The classes of text that stands back, for where it is no span. */
export const muted = "text-slate-600 dark:text-slate-400";

/** A link that is the subject of its row. */
export const subject = "font-semibold underline decoration-brass underline-offset-4";

/** The buttons of a dialog. */
export const Actions = ({ children }: { children: ReactNode }) => (
  <div className="flex justify-end gap-2">{children}</div>
);
