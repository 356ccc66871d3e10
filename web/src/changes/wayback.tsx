// What going back would lose.
import { useQuery } from "@tanstack/react-query";
import { api, ask } from "../shared/api";
import { Differences } from "../configurations/differences";
import { Mark, Trouble, Waiting } from "../shared/ui";

/** What going back would lose. */
export function Losses(p: { what: "change"; id: number } | { what: "device"; name: string; carry?: boolean }) {
  const l = useQuery({
    queryKey: ["losses", p.what, p.what === "change" ? p.id : p.name, p.what === "device" && !!p.carry],
    retry: false,
    queryFn: () =>
      p.what === "change"
        ? ask(api.GET("/changes/{id}/way-back", { params: { path: { id: p.id } } }))
        : ask(
            api.GET("/devices/{name}/back-preview", {
              params: { path: { name: p.name }, query: { carry: p.carry || undefined } },
            }),
          ),
  });
  if (l.isPending) return <Waiting />;
  if (!l.data) return <Trouble error={l.error} />;
  const d = l.data;
  return (
    <div
      id="losses"
      className="space-y-2 rounded-sm border border-line bg-white p-3 dark:border-nightline dark:bg-deck"
    >
      <p className="font-semibold">
        Going back from <span className="font-mono">{d.from}</span> to <span className="font-mono">{d.to}</span>
      </p>
      <p>{d.way}.</p>
      {d.backup !== undefined &&
        (d.configuration.length === 0 ? (
          <p>Nothing was configured since backup {d.backup}.</p>
        ) : (
          <>
            <p>Changed since backup {d.backup}; going back undoes it:</p>
            <Differences of={d.configuration} />
          </>
        ))}
      {d.carried && (
        <div id="carried">
          <p>
            Carried across:{" "}
            {Object.entries(d.carried.counts)
              .filter(([, n]) => n > 0)
              .map(([state, n]) => `${n} ${state.replace("-", " ")}`)
              .join(", ")}
            .{!d.carried.complete && " Something is left to a person; the change asks before anything is done."}
          </p>
          {d.carried.lines.map((l) => (
            <p key={l} className="ml-4 text-xs">
              {l}
            </p>
          ))}
        </div>
      )}
      {d.services.length > 0 ? (
        d.services.map((s) => (
          <p key={s} className="flex gap-2">
            <Mark state="held" /> {s}
          </p>
        ))
      ) : (
        <p>No service in use needs the newer version.</p>
      )}
      <p>Credentials that apply then, in this order: {d.credentials.join("; ") || "none"}.</p>
      {d.notes.map((n) => (
        <p key={n} className="text-slate-600 dark:text-slate-400">
          {n}
        </p>
      ))}
    </div>
  );
}
