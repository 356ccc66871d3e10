// One device: what it is, where it could go, and what can be done with it.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router-dom";
import { api, ask } from "../shared/api";
import { OperationsDialog } from "../changes/operations";
import { ConsoleLine } from "../changes/consoleline";
import { ReadingsCard } from "./readings";
import { RefreshProgress, useRefresh } from "./refresh";
import { Badge, Button, Card, Mark, Trouble, Waiting, Muted } from "../shared/ui";
import { PlaceOf } from "../replace/placeof";
import { Portrait } from "./portrait";
import { PathFinder } from "./pathfinder";
import { JoinDialog, ReleaseDialog } from "./join";
import { BackDialog, CredentialsDialog, KeyDialog, SettingsDialog } from "./dialogs";

export function DevicePage() {
  const name = useParams().name!;
  const path = { params: { path: { name } } };
  const device = useQuery({
    queryKey: ["device", name],
    queryFn: () => ask(api.GET("/devices/{name}", path)),
    refetchInterval: 3000,
  });
  const refresh = useRefresh(name);
  const [asking, setAsking] = useState<
    "credentials" | "key" | "settings" | "back" | "operations" | "join" | "release" | null
  >(null);
  if (device.isPending) return <Waiting />;
  if (!device.data) return <Trouble error={device.error} />;
  const d = device.data;
  return (
    <>
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="text-lg font-bold">{d.name}</h1>
        <Muted>{d.site}</Muted>
        {d.openChange && (
          <Link to={`/changes/${d.openChange}`}>
            <Badge state="running">change {d.openChange} is open</Badge>
          </Link>
        )}
        <span className="ml-auto" />
        <Link className="underline" to={`/devices/${d.name}/history`}>
          History and backups
        </Link>
        {d.portrait?.slots.some((x) => !x.running && x.version) && (
          <Button id="back" onClick={() => setAsking("back")}>
            Previous installation
          </Button>
        )}
        {d.portrait && (
          <Button id="single-operations" onClick={() => setAsking("operations")}>
            Single operations
          </Button>
        )}
        {d.canFollow && (
          <Button id="join" onClick={() => setAsking("join")}>
            Bring under a controller
          </Button>
        )}
        {d.follows && (
          <Button id="release" onClick={() => setAsking("release")}>
            Stand alone again
          </Button>
        )}
        <Button onClick={() => setAsking("credentials")}>Replace credentials</Button>
        <Button onClick={() => setAsking("key")}>Host key</Button>
        <Button id="settings" onClick={() => setAsking("settings")}>
          Settings
        </Button>
        <Button kind="main" disabled={refresh.open} onClick={refresh.start}>
          {refresh.open ? "Looking ..." : "Refresh"}
        </Button>
      </div>
      <RefreshProgress refresh={refresh} />
      {d.follows && (
        <p role="status">
          It is managed by{" "}
          <Link className="underline" to={`/devices/${d.follows}`}>
            {d.follows}
          </Link>{" "}
          and has no command line of its own. What is shown here is the word of {d.follows}.
        </p>
      )}
      <PlaceOf d={d} />
      <Portrait d={d} />
      <WayBack name={name} />
      {d.portrait && <PathFinder device={d} version={d.portrait.version} />}
      {d.portrait && <ReadingsCard name={name} />}
      {d.reach?.console && (
        <Card title="Console line" aside={<span className="font-mono text-xs">{d.reach.console}</span>}>
          <ConsoleLine device={name} live />
        </Card>
      )}
      <JoinDialog d={d} open={asking === "join"} onClose={() => setAsking(null)} />
      <ReleaseDialog d={d} open={asking === "release"} onClose={() => setAsking(null)} />
      <BackDialog d={d} open={asking === "back"} onClose={() => setAsking(null)} />
      <OperationsDialog d={d} open={asking === "operations"} onClose={() => setAsking(null)} />
      <CredentialsDialog name={name} open={asking === "credentials"} onClose={() => setAsking(null)} />
      <KeyDialog name={name} pinned={!!d.hostKey || !!d.pins} open={asking === "key"} onClose={() => setAsking(null)} />
      <SettingsDialog
        key={JSON.stringify([d.groups, d.web, d.reach, d.transfer, d.services, d.probes])}
        d={d}
        open={asking === "settings"}
        onClose={() => setAsking(null)}
      />
    </>
  );
}

/** Says when the version that runs now could not be installed again. */
function WayBack({ name }: { name: string }) {
  const keep = useQuery({ queryKey: ["retention"], queryFn: () => ask(api.GET("/images/retention")) });
  const found = keep.data?.devices.find((x) => x.device === name);
  return found ? (
    <p role="status" className="flex items-center gap-2">
      <Mark state="pending" /> {found.text}.
    </p>
  ) : null;
}
