// Calls of the service, typed by the contract.
import createClient, { type Middleware } from "openapi-fetch";
import type { components, paths } from "../api.gen";
import { setZone } from "./format";

export type S = components["schemas"];
export type Device = S["Device"];
export type Change = S["Change"];
export type Step = S["Step"];
export type Path = S["Path"];
export type Hop = S["Hop"];
export type Family = S["Family"];
export type PaperAim = S["PaperAim"];
export type Fetch = S["Fetch"];
export type Upload = S["Upload"];
export type Image = S["Image"];
export type Citation = S["Citation"];
export type Problem = S["Problem"];
export type Release = S["Release"];
export type Backup = S["Backup"];
export type Difference = S["Difference"];
export type Action = S["Action"];
export type Conversion = S["Conversion"];
export type ConversionChange = S["ConversionChange"];
export type ConfigurationSource = S["ConfigurationSource"];
export type PortChoice = S["PortChoice"];
export type Verdict = S["Verdict"];

export const api = createClient<paths>({ baseUrl: "/api/v1" });

/** A refusal of the service, or that it could not be reached (status 0). */
export class Refused extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

const away: Problem = {
  type: "unavailable",
  title: "No answer",
  status: 0,
  detail: "The service does not answer. What runs goes on; this page tries again.",
};

let signedOut = () => {};
/** Says what to do when the session is gone. */
export function onSignedOut(f: () => void) {
  signedOut = f;
}

const watchSession: Middleware = {
  onResponse({ response, request }) {
    const zone = response.headers.get("Verimorph-Zone");
    if (zone) setZone(zone);
    if (response.status === 401 && !request.url.endsWith("/sign-in")) signedOut();
  },
};
api.use(watchSession);

/** Unwraps an answer: the data, or a Refused. */
export async function ask<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let r;
  try {
    r = await call;
  } catch {
    throw new Refused(away);
  }
  if (r.error !== undefined) {
    const p = r.error as Partial<Problem>;
    throw new Refused(
      p.detail
        ? (p as Problem)
        : { ...away, status: r.response.status, detail: `The service answers ${r.response.status}.` },
    );
  }
  return r.data as T;
}

/** Collects all pages of a list. */
export async function pages<T>(page: (cursor?: string) => Promise<{ items: T[]; next?: string }>): Promise<T[]> {
  const out: T[] = [];
  let cursor: string | undefined;
  do {
    const p = await page(cursor);
    out.push(...p.items);
    cursor = p.next;
  } while (cursor);
  return out;
}

export const newKey = () => crypto.randomUUID?.() ?? String(Math.random()).slice(2) + Date.now();
