// The catalogue: what the makers support, file by file and family by family.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Link, useParams } from "react-router-dom";
import { api, ask, type Family, type S } from "../shared/api";
import { ago, mib } from "../shared/format";
import { Table, type Column } from "../shared/list";
import { Upload } from "../images/images";
import { Ask, Badge, Button, Card, Field, Muted, Tabs, Trouble, Waiting } from "../shared/ui";

export function CataloguePage() {
  const name = useParams().family;
  const queries = useQueryClient();
  const catalogue = useQuery({ queryKey: ["catalogue"], queryFn: () => ask(api.GET("/catalogue")) });
  const [history, setHistory] = useState<string | null>(null);
  const fresh = () => queries.invalidateQueries();
  const load = useMutation({
    mutationFn: async ({ file, check }: { file: File; check: boolean }) =>
      ask(
        api.PUT("/catalogue/{file}", {
          params: { path: { file: file.name }, query: { check } },
          body: await file.text(),
          bodySerializer: (b) => b,
          headers: { "Content-Type": "application/yaml" },
        }),
      ),
    onSuccess: fresh,
  });
  return (
    <>
      <h1 className="text-lg font-bold">Catalogue</h1>
      <Card
        title="Loaded"
        aside={
          <span className="flex gap-2">
            <Upload
              name="Check a file"
              accept=".yaml"
              busy={load.isPending}
              onFile={(file) => load.mutate({ file, check: true })}
            />
            <Upload
              name="Load a file"
              accept=".yaml"
              busy={load.isPending}
              onFile={(file) => load.mutate({ file, check: false })}
            />
          </span>
        }
      >
        <Trouble error={load.error ?? catalogue.error} />
        {load.data && (
          <div role="status">
            <p>
              {load.data.file}{" "}
              {load.variables?.check
                ? "can be loaded"
                : load.data.changed
                  ? "is loaded"
                  : "was loaded before; nothing changed"}
              .
            </p>
            {load.data.doubts.map((d) => (
              <p key={d}>{d}</p>
            ))}
          </div>
        )}
        {catalogue.data && (
          <Table
            columns={families(setHistory)}
            rows={catalogue.data.items}
            id={(f) => f.file}
            chosen={(f) => f.family === name}
            empty="Nothing is loaded yet. Without a catalogue there are no paths."
          />
        )}
      </Card>
      {!name && !!catalogue.data?.configuration.length && (
        <Card title="Schemas and conversions of configurations">
          <Table
            columns={configurationFiles(setHistory)}
            rows={catalogue.data.configuration}
            id={(f) => f.file}
            empty=""
          />
        </Card>
      )}
      {name && <Browser key={name} name={name} />}
      {history && <History file={history} onClose={() => setHistory(null)} onBack={fresh} />}
    </>
  );
}

type Loaded = { file: string; loadedAt: string; loadedBy: string };

/** The last columns of every file that was loaded: which it is, since when, and its history. */
function loaded<T extends Loaded>(history: (file: string) => void): Column<T>[] {
  return [
    { head: "File", className: "font-mono text-xs", cell: (f) => f.file },
    {
      head: "Loaded",
      cell: (f) => (
        <>
          {ago(f.loadedAt)} by {f.loadedBy}
        </>
      ),
    },
    {
      head: "Acts",
      bare: true,
      cell: (f) => (
        <Button className="!py-0.5" aria-label={`History of ${f.file}`} onClick={() => history(f.file)}>
          History
        </Button>
      ),
    },
  ];
}

const families = (history: (file: string) => void): Column<S["CatalogueFile"]>[] => [
  {
    head: "Family",
    className: "font-semibold",
    cell: (f) => (
      <Link className="underline" to={`/catalogue/${f.family}`}>
        {f.title || f.family}
      </Link>
    ),
  },
  { head: "Maker", cell: (f) => f.maker },
  { head: "Models", cell: (f) => f.models.join(", ") },
  { head: "Releases", cell: (f) => f.releases },
  ...loaded<S["CatalogueFile"]>(history),
];

const configurationFiles = (history: (file: string) => void): Column<S["ConfigurationFile"]>[] => [
  { head: "What", cell: (f) => f.kind },
  { head: "Id", className: "font-mono text-xs", cell: (f) => f.id },
  {
    head: "Title",
    cell: (f) => (
      <>
        {f.title}
        {f.trouble && <p className="font-semibold whitespace-pre-wrap">Cannot be used: {f.trouble}</p>}
      </>
    ),
  },
  ...loaded<S["ConfigurationFile"]>(history),
];

function Browser({ name }: { name: string }) {
  const family = useQuery({
    queryKey: ["family", name],
    queryFn: () => ask(api.GET("/families/{family}", { params: { path: { family: name } } })),
  });
  if (family.isPending) return <Waiting />;
  if (!family.data) return <Trouble error={family.error} />;
  const f = family.data;
  return (
    <Tabs
      label="What to see of this family"
      panel="space-y-4"
      tabs={[
        { id: "releases", name: "Releases", show: <Releases f={f} /> },
        { id: "models", name: "Models", show: <Models f={f} /> },
        {
          id: "rules",
          name: "Rules",
          show: (
            <Card title="Hops and restrictions">
              <Rules rules={f.rules} file={f.file} />
            </Card>
          ),
        },
        { id: "components", name: "Components", show: <Components f={f} /> },
        {
          id: "needs",
          name: "Needs and services",
          show: (
            <>
              {" "}
              <Card title="Requirements">
                <Rules rules={f.requirements} file={f.file} />
              </Card>
              <Card title="Services that not every release can do">
                <Rules rules={f.services} file={f.file} />
              </Card>
              <Card title="Versions that may work side by side">
                <Rules rules={f.skew} file={f.file} />
              </Card>
              <Card title="Conditions on the configuration">
                <Rules rules={f.conditions} file={f.file} />
              </Card>
            </>
          ),
        },
      ]}
    />
  );
}

function Releases({ f }: { f: Family }) {
  const [word, setWord] = useState("");
  const shown = f.releases.filter((r) =>
    [r.version, r.train, r.stage, ...r.models, ...r.fixes].some((x) => x.toLowerCase().includes(word.toLowerCase())),
  );
  return (
    <Card
      title={f.title}
      aside={
        <div className="w-56">
          <Field
            label=""
            aria-label="Find releases"
            type="search"
            placeholder="version, stage, model, advisory"
            value={word}
            onChange={(e) => setWord(e.target.value)}
          />
        </div>
      }
    >
      <table className="w-full">
        <thead>
          <tr>
            <th>Version</th>
            <th>Date</th>
            <th>Stage</th>
            <th>May run on</th>
            <th>Fixes</th>
            <th>Images</th>
            <th>Notes</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((r, i) => (
            <Fragment key={r.version}>
              {r.train !== shown[i - 1]?.train && (
                <tr>
                  <td
                    colSpan={7}
                    className="border-t border-line bg-slate-100 py-1 font-semibold dark:border-nightline dark:bg-slate-800"
                  >
                    Train {r.train}
                  </td>
                </tr>
              )}
              <tr className="border-t border-line dark:border-nightline">
                <td className="font-mono font-semibold">{r.version}</td>
                <td className="whitespace-nowrap">{r.date}</td>
                <td>
                  <Badge state={r.stage} />
                </td>
                <td>{r.models.join(", ") || "none"}</td>
                <td>{r.fixes.join(", ")}</td>
                <td>
                  {r.images.map((im) => (
                    <span
                      key={im.file}
                      className="mr-2 inline-flex items-center gap-1 whitespace-nowrap"
                      title={`${mib(im.size)}, SHA-256 ${im.sha256 || "not known"}`}
                    >
                      {im.file} {im.there && <Badge state="done">here</Badge>}
                    </span>
                  ))}
                  {r.base && <Muted>with the base image of {r.base}</Muted>}
                </td>
                <td>
                  {r.notes.map((n, k) => (
                    <p key={k}>
                      {n.text}
                      {n.when && <Muted> (if {n.when})</Muted>}
                    </p>
                  ))}
                </td>
              </tr>
            </Fragment>
          ))}
        </tbody>
      </table>
    </Card>
  );
}

function Models({ f }: { f: Family }) {
  return (
    <Card title="Models">
      <table className="w-full">
        <thead>
          <tr>
            <th>Model</th>
            <th>What it is</th>
            <th>May run</th>
            <th>Supported until</th>
            <th>Newest</th>
            <th>Preferred</th>
            <th>Generations</th>
            <th>
              <span className="sr-only">Acts</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {f.models.map((m) => (
            <tr key={m.name} className="border-t border-line dark:border-nightline">
              <td className="font-semibold">{m.name}</td>
              <td>
                {m.title}
                {m.role && ` (${m.role})`}
              </td>
              <td>
                <span className="font-mono">{m.runs}</span>
                {m.because && <p className="text-slate-600 dark:text-slate-400">{m.because}</p>}
              </td>
              <td className="whitespace-nowrap">
                {m.endOfSupport ?? "-"}
                {m.successor && <p className="text-slate-600 dark:text-slate-400">then {m.successor}</p>}
              </td>
              <td className="font-mono">{m.newest}</td>
              <td className="font-mono">{m.preferred}</td>
              <td>{m.generations.join(", ")}</td>
              <td>
                <Link className="underline" to={`/paths?family=${f.name}&model=${m.name}`}>
                  Paths
                </Link>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Card>
  );
}

function Rules({ rules, file }: { rules: Family["rules"]; file: string }) {
  if (rules.length === 0) return <p className="text-slate-600 dark:text-slate-400">None.</p>;
  return (
    <table className="w-full">
      <tbody>
        {rules.map((r) => (
          <tr key={r.id} className="border-t border-line first:border-0 dark:border-nightline">
            <td>
              <code
                className="rounded-sm bg-slate-200 px-1 text-xs whitespace-nowrap dark:bg-slate-700"
                title={`${file}, line ${r.line}`}
              >
                {r.id}
              </code>
            </td>
            <td className="whitespace-nowrap">{r.kind}</td>
            <td>{r.says}</td>
            <td className="text-slate-600 dark:text-slate-400">{r.text}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Components({ f }: { f: Family }) {
  if (f.components.length === 0) return <Card>This family has no firmware beside the main image.</Card>;
  return (
    <div className="space-y-4">
      {f.components.map((c) => (
        <Card
          key={c.name}
          title={c.title}
          aside={
            <Muted small>
              {c.order} the main image, {c.trigger}
              {c.restarts && `, restarts ${c.restarts}`}
            </Muted>
          }
        >
          <p>{c.text}</p>
          <table className="mt-2 w-full">
            <thead>
              <tr>
                <th>Releases</th>
                <th>Models and generations</th>
                <th>Version</th>
                <th>File</th>
              </tr>
            </thead>
            <tbody>
              {c.rows.map((r, i) => (
                <tr key={i} className="border-t border-line dark:border-nightline">
                  <td className="font-mono">{r.releases}</td>
                  <td>{r.for || "all"}</td>
                  <td className="font-mono">{r.version}</td>
                  <td>{r.file ?? "in the main image"}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Card>
      ))}
    </div>
  );
}

/** Who loaded which version of a file, what changed, and going back. */
function History({ file, onClose, onBack }: { file: string; onClose: () => void; onBack: () => void }) {
  const queries = useQueryClient();
  const all = useQuery({
    queryKey: ["versions", file],
    queryFn: () => ask(api.GET("/catalogue/{file}/versions", { params: { path: { file } } })),
  });
  const [picked, setPicked] = useState<number | null>(null);
  const items = all.data?.items ?? [];
  const at = items.findIndex((v) => v.id === picked);
  const before = at >= 0 ? items[at + 1] : undefined;
  const diff = useQuery({
    queryKey: ["versions", file, before?.id, picked],
    enabled: !!before,
    queryFn: () =>
      ask(
        api.GET("/catalogue/{file}/versions/{id}/compare/{other}", {
          params: { path: { file, id: before!.id, other: picked! } },
        }),
      ),
  });
  const back = useMutation({
    mutationFn: (id: number) => ask(api.POST("/catalogue/{file}/versions/{id}", { params: { path: { file, id } } })),
    onSuccess: () => {
      queries.invalidateQueries({ queryKey: ["versions", file] });
      onBack();
    },
  });
  return (
    <Ask open onClose={onClose} title={`History of ${file}`}>
      <Trouble error={all.error ?? diff.error ?? back.error} />
      <ul className="max-h-56 space-y-1 overflow-auto">
        {items.map((v) => (
          <li key={v.id} className="flex items-center gap-2">
            <Button
              className="!py-0.5"
              aria-pressed={v.id === picked}
              kind={v.id === picked ? "main" : "plain"}
              onClick={() => setPicked(v.id)}
            >
              {v.id}
            </Button>
            <span>
              {ago(v.loadedAt)} by {v.loadedBy}
              {v.restored && ", gone back to"}
            </span>{" "}
            <a className="underline" href={`/api/v1/catalogue/${file}/versions/${v.id}`} download={file}>
              Text
            </a>{" "}
            {v.current ? (
              <Badge state="done">in use</Badge>
            ) : (
              <Button className="ml-auto !py-0.5" onClick={() => back.mutate(v.id)}>
                Go back to it
              </Button>
            )}
          </li>
        ))}
      </ul>
      {picked !== null && !before && at >= 0 && <p>It is the first one.</p>}
      {diff.data && (
        <div className="max-h-56 overflow-auto">
          <p className="font-semibold">
            From {before?.id} to {picked}
          </p>
          {diff.data.items.length === 0 && <p>Nothing but comments or order.</p>}
          {diff.data.items.map((d, i) => (
            <p key={i}>
              <Badge state={d.kind === "removed" ? "failed" : d.kind === "added" ? "done" : "pending"}>{d.kind}</Badge>{" "}
              {d.what}
              {d.detail && `: ${d.detail}`}
            </p>
          ))}
        </div>
      )}
      <div className="flex justify-end">
        <Button onClick={onClose}>Close</Button>
      </div>
    </Ask>
  );
}
