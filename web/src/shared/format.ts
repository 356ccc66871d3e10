/** Seconds as 28 s, 1 min 35 s or 1 h 5 min. */
export function duration(seconds: number): string {
  const n = Math.max(0, Math.round(seconds));
  if (n < 60) return `${n} s`;
  const minutes = Math.floor(n / 60);
  if (n < 3600) return n % 60 ? `${minutes} min ${n % 60} s` : `${minutes} min`;
  return minutes % 60 ? `${Math.floor(n / 3600)} h ${minutes % 60} min` : `${Math.floor(n / 3600)} h`;
}

/** How long something is expected to take: 28 s to 1 min 35 s, 17 to 45 min. From ten minutes on, seconds are left out. */
export function span(low: number, high: number): string {
  const whole = (seconds: number) => (seconds >= 600 ? Math.round(seconds / 60) * 60 : seconds);
  const [from, to] = [duration(whole(low)), duration(whole(high))];
  const unit = (text: string) => text.slice(text.indexOf(" "));
  return `${unit(from) === unit(to) ? from.slice(0, from.indexOf(" ")) : from} to ${to}`;
}

export const mib = (bytes: number) => `${(bytes / (1 << 20)).toFixed(1)} MiB`;

/** A size for people, of small things too. */
export const size = (bytes: number) => (bytes < 1 << 20 ? `${(bytes / 1024).toFixed(1)} KiB` : mib(bytes));

export function ago(when: string): string {
  const s = (Date.now() - Date.parse(when)) / 1000;
  if (s < 60) return "just now";
  if (s < 3600) return `${Math.floor(s / 60)} min ago`;
  if (s < 48 * 3600) return `${Math.floor(s / 3600)} h ago`;
  return onTheWall(when).slice(0, 10);
}

let zone = "UTC";
/** The time zone of the installation, in which windows, times and clocks are told everywhere; the service says it with every answer. */
export const zoneName = () => zone;
export function setZone(name: string) {
  try {
    new Intl.DateTimeFormat(undefined, { timeZone: name });
    zone = name;
  } catch {
    /* a zone that this browser does not know: it stays as it was, and every time is shown with its zone */
  }
}

export const time = (when: string) =>
  new Date(when).toLocaleString(undefined, {
    year: "numeric",
    month: "short",
    day: "numeric",
    hour: "2-digit",
    minute: "2-digit",
    second: "2-digit",
    hourCycle: "h23",
    timeZone: zone,
    timeZoneName: "short",
  });

/** What the clock on the wall shows at a moment, in the zone of the installation, as an input of the browser takes it. */
export function onTheWall(iso?: string): string {
  if (!iso) return "";
  const p = Object.fromEntries(
    new Intl.DateTimeFormat("en-GB", {
      timeZone: zone,
      year: "numeric",
      month: "2-digit",
      day: "2-digit",
      hour: "2-digit",
      minute: "2-digit",
      hourCycle: "h23",
    })
      .formatToParts(new Date(iso))
      .map((x) => [x.type, x.value]),
  );
  return `${p.year}-${p.month}-${p.day}T${p.hour}:${p.minute}`;
}

/** The moment at which the clock on the wall shows something; the way back of onTheWall. */
export function momentOf(wall: string): string | undefined {
  if (!wall) return undefined;
  const want = Date.parse(`${wall}Z`);
  let at = want;
  for (let i = 0; i < 2; i++) at += want - Date.parse(`${onTheWall(new Date(at).toISOString())}Z`);
  return new Date(at).toISOString();
}
