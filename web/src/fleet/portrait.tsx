// What a device said of itself, and how it stands.
import { type ReactNode } from "react";
import { Link } from "react-router-dom";
import { type Device, type S } from "../shared/api";
import { ago, mib, time } from "../shared/format";
import { Badge, Bar, Card, Mark, Muted } from "../shared/ui";

function Fact({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div>
      <dt className="text-xs text-slate-600 dark:text-slate-400">{name}</dt>
      <dd className="font-medium">{children}</dd>
    </div>
  );
}

/** How the device stands, how old that is, and who knows it. */
function Stands({ d }: { d: Device }) {
  const s = d.standing;
  if (!s) return null;
  return (
    <p id="stands" role="status" className="mb-3 flex items-center gap-2">
      <Badge state={s.state}>{s.state.replace("-", " ")}</Badge>
      <span>
        {s.change ? (
          <Link className="underline" to={`/changes/${s.change}`}>
            {s.text}
          </Link>
        ) : (
          s.text
        )}
        {s.at && (
          <Muted>
            , {s.source === "change" ? "since" : "as of"} {time(s.at)}
          </Muted>
        )}
      </span>
    </p>
  );
}

function Heads({ of }: { of: string[] }) {
  return (
    <thead className="text-left text-xs text-slate-600 dark:text-slate-400">
      <tr>
        {of.map((h) => (
          <th key={h} scope="col" className="pr-3 font-normal">
            {h}
          </th>
        ))}
      </tr>
    </thead>
  );
}

/** Whether something is well, and the device's own words for it. What is not known is neither. */
function Well({ good, words }: { good?: boolean; words?: string }) {
  return (
    <span className="inline-flex items-center gap-1">
      <Mark state={good ? "done" : good === undefined ? "not-proven" : "held"} /> {words}
    </span>
  );
}

/** The units of a stack or chassis, each with what it runs and how it stands. */
function Units({ of }: { of: S["Unit"][] }) {
  return (
    <table id="units" className="mt-4 w-full">
      <caption className="pb-1 text-left font-semibold">Units</caption>
      <Heads of={["Unit", "Role", "Serial", "Runs", "Holds", "Room", "State"]} />
      <tbody>
        {of.map((u) => (
          <tr key={u.name} className="border-t border-line dark:border-nightline">
            <th scope="row" className="py-1 text-left text-base font-medium">
              {u.name}
            </th>
            <td>{u.role}</td>
            <td className="font-mono">{u.serial}</td>
            <td className="font-mono">{u.version ?? "not known"}</td>
            <td className="font-mono">{u.holds?.join(", ")}</td>
            <td>
              {u.free !== undefined && u.total !== undefined ? `${mib(u.free)} of ${mib(u.total)} free` : "not known"}
            </td>
            <td>
              <Well good={u.good} words={u.state} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** The boxes that follow a device, by the places where they stand in for each other; first what is not well. */
function Children({ of, well }: { of: S["Child"][]; well: number }) {
  const places = [...new Set(of.map((c) => c.place ?? ""))].sort();
  return (
    <details id="children" className="mt-4" open={of.length <= 60}>
      <summary className="cursor-pointer font-semibold">
        Followed by {of.length}, of which {well} have joined
      </summary>
      <div className="mt-1">
        <table className="w-full">
          <Heads of={["Place", "Name", "Model", "Group", "Runs", "Has fetched", "State"]} />
          <tbody>
            {places.map((place) =>
              of
                .filter((c) => (c.place ?? "") === place)
                .sort((a, b) => Number(a.good ?? false) - Number(b.good ?? false) || a.name.localeCompare(b.name))
                .map((c, i) => (
                  <tr key={c.name} className={i === 0 ? "border-t border-line dark:border-nightline" : ""}>
                    <td className="pr-3">{i === 0 && (place || "no place")}</td>
                    <th scope="row" className="pr-3 text-left font-medium">
                      {c.name}
                    </th>
                    <td className="pr-3">{c.model}</td>
                    <td className="pr-3">{c.group}</td>
                    <td className="pr-3 font-mono">{c.version ?? "not known"}</td>
                    <td className="pr-3 font-mono">{c.next}</td>
                    <td>
                      <Well good={c.good} words={c.state} />
                    </td>
                  </tr>
                )),
            )}
          </tbody>
        </table>
      </div>
    </details>
  );
}

export function Portrait({ d }: { d: Device }) {
  const p = d.portrait;
  if (!p)
    return (
      <Card title="Portrait">
        <Stands d={d} />
        <p>Nobody has looked at this device yet. Refresh asks it what it is.</p>
      </Card>
    );
  return (
    <Card title="Portrait" aside={<Muted small>seen {ago(p.takenAt)}</Muted>}>
      <Stands d={d} />
      <div className="grid gap-6 md:grid-cols-3">
        <dl className="grid grid-cols-2 content-start gap-3">
          <Fact name="Model">
            {p.maker} {p.model}
          </Fact>
          <Fact name="Serial">
            <span className="font-mono">{p.serial}</span>
          </Fact>
          <Fact name="Runs">
            <span className="font-mono text-base">{p.version}</span>
          </Fact>
          <Fact name="Services">
            <Badge state={p.servicesReady === undefined ? "not known" : p.servicesReady ? "ready" : "starting"} />
          </Fact>
        </dl>
        <div className="space-y-2">
          {p.slots.map((s) => (
            <div
              key={s.name}
              className={`flex flex-wrap items-center gap-x-3 gap-y-1 rounded-sm border px-3 py-1.5 ${s.running ? "border-2 border-brass dark:border-brasslight" : "border-line dark:border-nightline"}`}
            >
              <b className="whitespace-nowrap">Slot {s.name}</b>
              <span className="font-mono">{s.version || "empty"}</span>
              <Muted>{[s.description, s.written, s.size && mib(s.size)].filter(Boolean).join(", ")}</Muted>
              <span className="ml-auto flex gap-1">
                {s.running && <Badge state="running">running</Badge>}
                {s.next && <Badge state="waiting">next start</Badge>}
                {s.second && <Badge state="waiting">second</Badge>}
                {s.broken && <Badge state="broken">broken: {s.state}</Badge>}
              </span>
            </div>
          ))}
          {p.unsaved && <Badge state="degraded">running configuration is not saved</Badge>}
          {p.unsaved === undefined && (
            <p className="text-slate-600 dark:text-slate-400">
              Whether anything is unsaved is not known; the device does not say.
            </p>
          )}
          {p.notUnderstood?.map((x) => (
            <p key={x} className="flex gap-2">
              <Mark state="not-proven" /> Not understood: {x}
            </p>
          ))}
          <dl className="space-y-2">
            {p.facts?.map((f) => (
              <Fact key={f.name} name={f.name[0].toUpperCase() + f.name.slice(1)}>
                {f.text}
              </Fact>
            ))}
            {p.components && (
              <Fact name="Firmware beside it">
                {p.components.map((x) => (
                  <span key={x.name} className="mr-3 whitespace-nowrap">
                    {x.name} <span className="font-mono">{x.version}</span>
                  </span>
                ))}
              </Fact>
            )}
            {p.parts && (
              <Fact name="Parts">
                {p.parts.every((x) => x.good) ? (
                  <>all {p.parts.length} are well</>
                ) : (
                  p.parts
                    .filter((x) => !x.good)
                    .map((x) => (
                      <span key={x.name} className="mr-3 inline-flex items-center gap-1">
                        <Mark state="held" /> {x.name}: {x.state}
                        {x.good === undefined && ", not known whether that is well"}
                      </span>
                    ))
                )}
              </Fact>
            )}
            {p.variables && (
              <Fact name="Boot">
                {p.variables.map((x) => (
                  <span key={x.name} className="mr-3">
                    {x.name}: <span className="font-mono">{x.value || "clear"}</span>
                  </span>
                ))}
              </Fact>
            )}
            {p.licences && <Fact name="Licences">{p.licences.join(", ") || "none"}</Fact>}
          </dl>
        </div>
        <dl className="space-y-3">
          {p.storageFree !== undefined && p.storageTotal ? (
            <Fact name={`Storage: ${mib(p.storageFree)} of ${mib(p.storageTotal)} free`}>
              <Bar fraction={1 - p.storageFree / p.storageTotal} label="storage in use" />
            </Fact>
          ) : (
            <Fact name="Storage">not known; the device does not say</Fact>
          )}
          {p.stores?.map((x) => (
            <Fact key={x.name} name={`${x.name}: ${mib(x.free)} of ${mib(x.total)} free`}>
              <Bar fraction={1 - x.free / x.total} label={`${x.name} in use`} />
            </Fact>
          ))}
          <Fact name="Address">
            <span className="font-mono">{d.address}</span>, {d.dialect}, images by {d.imagesBy ?? d.transfer}
          </Fact>
          {d.groups.length > 0 && <Fact name="Groups">{d.groups.join(", ")}</Fact>}
          {d.reach?.via && (
            <Fact name="Reached through">
              <Link className="underline" to={`/devices/${d.reach.via}`}>
                {d.reach.via}
              </Link>
              {d.reach.enter && (
                <>
                  , by <span className="font-mono">{d.reach.enter}</span>
                </>
              )}
            </Fact>
          )}
          {d.web && (
            <Fact name="Web side">
              <span className="font-mono">{d.web}</span>
            </Fact>
          )}
          {Object.entries({ ...d.pins, ...d.services }).map(([protocol]) => (
            <Fact key={protocol} name={protocol}>
              {d.services?.[protocol] && <span className="font-mono">{d.services[protocol]} </span>}
              {d.pins?.[protocol] && <span className="font-mono text-xs break-all">{d.pins[protocol]}</span>}
            </Fact>
          ))}
          {d.hostKey && (
            <Fact name="Host key">
              <span className="font-mono text-xs break-all">{d.hostKey}</span>
            </Fact>
          )}
        </dl>
      </div>
      {p.units && <Units of={p.units} />}
      {p.children && <Children of={p.children} well={p.childrenWell ?? 0} />}
    </Card>
  );
}
