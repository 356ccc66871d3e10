// What the makers support and the images that are there: the catalogue and the image store.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { api, ask, pages } from "./api";
import { ago, mib } from "./format";
import { Button, Card, Trouble } from "./ui";

export function ShelfPage() {
  const queries = useQueryClient();
  const catalogue = useQuery({ queryKey: ["catalogue"], queryFn: () => ask(api.GET("/catalogue")) });
  const images = useQuery({ queryKey: ["images"], queryFn: () => pages((cursor) => ask(api.GET("/images", { params: { query: { cursor, limit: 500 } } }))) });
  const load = useMutation({
    mutationFn: async (file: File) => ask(api.PUT("/catalogue/{file}", { params: { path: { file: file.name } }, body: await file.text(), bodySerializer: (b) => b, headers: { "Content-Type": "application/yaml" } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["catalogue"] }),
  });
  const add = useMutation({
    mutationFn: (file: File) => ask(api.POST("/images", { params: { query: { file: file.name } }, body: file as unknown as string, bodySerializer: (b) => b as unknown as Blob, headers: { "Content-Type": "application/octet-stream" } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["images"] }),
  });
  return (
    <>
      <h1 className="text-lg font-bold">Catalogue and images</h1>
      <Trouble error={catalogue.error ?? images.error} />
      <Card title="Catalogue" aside={<Upload name="Load a file" accept=".yaml" busy={load.isPending} onFile={(f) => load.mutate(f)} />}>
        <Trouble error={load.error} />
        {load.data && <p role="status">{load.data.file} {load.data.changed ? "is loaded" : "was loaded before; nothing changed"}. {load.data.doubts.join(" ")}</p>}
        <table className="w-full">
          <thead><tr><th>File</th><th>Maker</th><th>Family</th><th>Models</th><th>Releases</th><th>Loaded</th></tr></thead>
          <tbody>
            {catalogue.data?.items.map((f) => (
              <tr key={f.file} className="border-t border-line dark:border-nightline">
                <td className="font-semibold">{f.file}</td><td>{f.maker}</td><td>{f.title || f.family}</td><td>{f.models.join(", ")}</td><td>{f.releases}</td><td>{ago(f.loadedAt)} by {f.loadedBy}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Card>
      <Card title="Image store" aside={<Upload name="Add an image" accept=".img" busy={add.isPending} onFile={(f) => add.mutate(f)} />}>
        <Trouble error={add.error} />
        {add.data && <p role="status">{add.data.file} is in the store: {add.data.version} for {add.data.models.join(", ")}.</p>}
        <table className="w-full">
          <thead><tr><th>File</th><th>Version</th><th>Models</th><th>Size</th><th>SHA-256</th></tr></thead>
          <tbody>
            {images.data?.map((im) => (
              <tr key={im.sha256} className="border-t border-line dark:border-nightline">
                <td className="font-semibold">{im.file}</td><td className="font-mono">{im.version}</td><td>{im.models.join(", ")}</td><td>{mib(im.size)}</td><td className="font-mono text-xs">{im.sha256.slice(0, 24)}…</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Card>
    </>
  );
}

function Upload({ name, accept, busy, onFile }: { name: string; accept: string; busy: boolean; onFile: (f: File) => void }) {
  const input = useRef<HTMLInputElement>(null);
  return (
    <>
      <input ref={input} type="file" accept={accept} hidden onChange={(e) => { const f = e.target.files?.[0]; if (f) onFile(f); e.target.value = ""; }} />
      <Button disabled={busy} onClick={() => input.current?.click()}>{busy ? "Sending ..." : name}</Button>
    </>
  );
}
