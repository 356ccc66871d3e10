// What the checks of a conversion found.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, ask, type Conversion } from "../shared/api";
import { Sign } from "../shared/marks";
import { Button, Trouble } from "../shared/ui";
import { type SideProps } from "./parts";

export function Checks({ c, jump }: SideProps) {
  const [model, version] = c.to.split("@");
  const devices = useQuery({
    queryKey: ["devices", model, version],
    queryFn: () => ask(api.GET("/devices", { params: { query: { model, version, limit: 100 } } })),
  });
  const fit = devices.data?.items ?? [];
  const [device, setDevice] = useState("");
  const attempt = useMutation({
    mutationFn: (device: string) =>
      ask(api.POST("/conversions/{id}/try", { params: { path: { id: c.id } }, body: { device } })),
  });
  const { reset } = attempt;
  useEffect(() => reset(), [c.resultText, reset]); // what a device said was about another text
  const picked = device || fit[0]?.name || "";
  return (
    <div className="space-y-4">
      <section>
        <h3 className="font-semibold">What the schema of {c.to} says</h3>
        {c.ledger.findings.length === 0 ? (
          <p>
            <Sign of="kept" /> The result is as it takes it.
          </p>
        ) : (
          <Found of={c.ledger.findings} jump={jump} />
        )}
      </section>
      <section className="space-y-2">
        <h3 className="font-semibold">What a device says</h3>
        {fit.length === 0 ? (
          <p>
            No device of the fleet is a {model} that runs {version}, so none can be asked.
          </p>
        ) : (
          <>
            <p className="text-xs">
              The device reads the result as it would before using it. It keeps nothing and changes nothing.
            </p>
            <span className="flex gap-2">
              <select
                aria-label="Device to ask"
                value={picked}
                onChange={(e) => setDevice(e.target.value)}
                className="rounded-sm border border-slate-400 bg-transparent px-1 dark:border-slate-600 dark:bg-deck"
              >
                {fit.map((d) => (
                  <option key={d.name}>{d.name}</option>
                ))}
              </select>
              <Button disabled={attempt.isPending} onClick={() => attempt.mutate(picked)}>
                {attempt.isPending ? "Asking …" : "Ask it"}
              </Button>
            </span>
          </>
        )}
        <Trouble error={attempt.error ?? devices.error} />
        {attempt.data &&
          (attempt.data.items.length === 0 ? (
            <p role="status">
              <Sign of="kept" /> {attempt.data.device} takes it.
            </p>
          ) : (
            <Found of={attempt.data.items} jump={jump} />
          ))}
      </section>
    </div>
  );
}

function Found({ of, jump }: { of: Conversion["ledger"]["findings"]; jump: SideProps["jump"] }) {
  return (
    <ul className="space-y-2">
      {of.map((f, i) => (
        <li key={i}>
          <button type="button" className="flex gap-2 text-left" onClick={() => jump(0, f.line)}>
            <Sign of={f.doubt ? "changed" : "needs-person"} />
            <span>
              <b>{f.path || "the whole"}</b>
              {f.line > 0 && `, line ${f.line}`}: {f.message}
            </span>
          </button>
        </li>
      ))}
    </ul>
  );
}
