// What was seen on a console line.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { api, ask } from "../shared/api";
import { Trouble } from "../shared/ui";

/** What comes over a device's console line, as it comes. */
export function ConsoleLine({ device, change, live }: { device: string; change?: number; live: boolean }) {
  const queries = useQueryClient();
  const key = ["console", device, change];
  const log = useQuery({
    queryKey: key,
    refetchInterval: live ? 1000 : false,
    queryFn: async () => {
      // only what came since the last look is asked for
      let { after, text } = queries.getQueryData<{ after: number; text: string }>(key) ?? { after: 0, text: "" };
      for (;;) {
        const { items } = await ask(
          api.GET("/devices/{name}/console-log", { params: { path: { name: device }, query: { after, change } } }),
        );
        if (items.length === 0) return { after, text };
        text += items.map((p) => p.text).join("");
        after = items.at(-1)!.id;
      }
    },
  });
  const end = useRef<HTMLPreElement>(null);
  const text = log.data?.text;
  useEffect(() => {
    if (live && end.current) end.current.scrollTop = end.current.scrollHeight;
  }, [text, live]);
  return (
    <>
      <Trouble error={log.error} />
      <pre
        ref={end}
        id="console-line"
        className="max-h-96 overflow-auto rounded-sm bg-slate-900 p-3 font-mono text-xs text-slate-100"
      >
        {text || "Nothing came over the line yet."}
      </pre>
    </>
  );
}
