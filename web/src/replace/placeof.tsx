// On the page of a device: whose place it took, or who took its place.
import { Link } from "react-router-dom";
import type { Device, S } from "../shared/api";
import { ago } from "../shared/format";
import { Muted } from "../shared/ui";
import { oldOf } from "./words";

export function PlaceOf({ d }: { d: Device }) {
  return (
    <>
      {d.replacements?.map((r) => (
        <Line key={r.change} r={r} name={d.name} />
      ))}
    </>
  );
}

function Line({ r, name }: { r: S["Replacement"]; name: string }) {
  const other = r.new === name ? r.old : r.new;
  return (
    <p role="status">
      {r.new === name ? "It took the place of " : "Its place was taken by "}
      <Link className="underline" to={`/devices/${other}`}>
        {other}
      </Link>{" "}
      with{" "}
      <Link className="underline" to={`/changes/${r.change}`}>
        change {r.change}
      </Link>
      {r.endedAt && <Muted> {ago(r.endedAt)}</Muted>}. {oldOf(r, ago)}{" "}
      <Link className="underline" to={`/devices/${other}/history`}>
        History and backups of {other}
      </Link>
    </p>
  );
}
