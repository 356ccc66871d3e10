// Uploads go on while somebody looks at other pages: they belong to the service, and this part of the console, not to a
// page. After a broken line, or when the same file is chosen again, they go on where the service says they stand.
import { useSyncExternalStore } from "react";
import { api, ask, Refused, type Image } from "../shared/api";

export type Sending = { key: number; file: string; size: number; sent: number; error?: unknown; image?: Image };

let sendings: Sending[] = [];
let next = 1;
const watchers = new Set<() => void>();

function put(s: Sending) {
  sendings = [...sendings.filter((x) => x.key !== s.key), s].sort((a, b) => a.key - b.key);
  watchers.forEach((w) => w());
}

export function useSendings(): Sending[] {
  return useSyncExternalStore(
    (w) => {
      watchers.add(w);
      return () => watchers.delete(w);
    },
    () => sendings,
  );
}

export function clearSending(key: number) {
  sendings = sendings.filter((s) => s.key !== key);
  watchers.forEach((w) => w());
}

const piece = 4 << 20,
  patience = 8;
const pause = (ms: number) => new Promise((done) => setTimeout(done, ms));

/** Sends a file; a signature, when there is one, lies beside it as FILE.sig. */
export async function send(file: File, signature: File | undefined, done: () => void) {
  const s: Sending = { key: next++, file: file.name, size: file.size, sent: 0 };
  put(s);
  const begin = async () =>
    ask(
      api.POST("/uploads", {
        body: {
          file: file.name,
          size: file.size,
          signature: signature && btoa(String.fromCharCode(...new Uint8Array(await signature.arrayBuffer()))),
        },
      }),
    );
  let tries = 0;
  for (;;) {
    try {
      let up = await begin();
      put({ ...s, sent: up.offset });
      for (;;) {
        const part = file.slice(up.offset, up.offset + piece);
        up = await ask(
          api.PUT("/uploads/{id}", {
            params: { path: { id: up.id }, query: { offset: up.offset } },
            body: part as unknown as string,
            bodySerializer: (b) => b as unknown as Blob,
            headers: { "Content-Type": "application/octet-stream" },
          }),
        );
        tries = 0;
        put({ ...s, sent: up.offset, image: up.image });
        if (up.image) return done();
      }
    } catch (error) {
      const lost =
        error instanceof Refused &&
        (error.problem.status === 0 || error.problem.status >= 500 || error.problem.status === 409);
      if (!lost || ++tries > patience) return put({ ...s, sent: 0, error });
      await pause(500 * tries);
    }
  }
}
