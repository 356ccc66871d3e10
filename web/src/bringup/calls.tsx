// New devices that ask by themselves what they are to become (RFC 8572): which are expected, what they lack, and what they report.
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router-dom";
import { api, ask, type S } from "../shared/api";
import { ago } from "../shared/format";
import { Badge, Card, Mark, Muted, subject, Trouble } from "../shared/ui";

type Call = S["Call"];

export function Calls() {
  const list = useQuery({
    queryKey: ["bootstrap"],
    queryFn: () => ask(api.GET("/bootstrap")),
    refetchInterval: 5000,
  });
  return (
    <Card title="Devices that call">
      <Trouble error={list.error} />
      {list.data && <Makers names={list.data.makers} />}
      <ul id="calls" aria-live="polite">
        {list.data?.calls.map((c) => (
          <Expected key={c.change} call={c} />
        ))}
      </ul>
    </Card>
  );
}

function Makers({ names }: { names: string[] }) {
  if (names.length > 0)
    return (
      <p>
        <Muted>Devices of these may call: {names.join(", ")}.</Muted>
      </p>
    );
  return (
    <p>
      No device may call yet. Say whose may with <code>verimorph bootstrap trust FILE</code>.
    </p>
  );
}

function Expected({ call }: { call: Call }) {
  return (
    <li
      data-call={call.serial}
      className="flex flex-wrap items-baseline gap-x-3 border-t border-line py-2 first:border-t-0 dark:border-nightline"
    >
      <b>{call.device}</b> {call.serial}
      <Link className={subject} to={`/changes/${call.change}`}>
        change {call.change}
      </Link>
      <Badge state={call.state}>{call.state}</Badge>
      <span>{saysOf(call)}</span>
      {!call.voucher && (
        <span className="flex items-center gap-2">
          <Mark state="stop" /> there is no ownership voucher for it
        </span>
      )}
    </li>
  );
}

/** How far a device is, by its own word. */
export function saysOf(call: Call): string {
  const last = call.reports.at(-1);
  if (call.completeAt) return `it is what it was handed, ${ago(call.completeAt)}`;
  if (last) return `it reports: ${last}`;
  return call.calledAt ? `it called ${ago(call.calledAt)}` : "it has not called yet";
}
