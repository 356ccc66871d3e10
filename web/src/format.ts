/** Seconds as 4:05 or 1:04:05. */
export function clock(seconds: number): string {
  const n = Math.max(0, Math.round(seconds));
  const two = (x: number) => String(x).padStart(2, "0");
  return n >= 3600 ? `${Math.floor(n / 3600)}:${two(Math.floor(n / 60) % 60)}:${two(n % 60)}` : `${Math.floor(n / 60)}:${two(n % 60)}`;
}

export const span = (low: number, high: number) => `${clock(low)} to ${clock(high)}`;

export const mib = (bytes: number) => `${(bytes / (1 << 20)).toFixed(1)} MiB`;

/** A size for people, of small things too. */
export const size = (bytes: number) => (bytes < 1 << 20 ? `${(bytes / 1024).toFixed(1)} KiB` : mib(bytes));

export function ago(when: string): string {
  const s = (Date.now() - Date.parse(when)) / 1000;
  if (s < 60) return "just now";
  if (s < 3600) return `${Math.floor(s / 60)} min ago`;
  if (s < 48 * 3600) return `${Math.floor(s / 3600)} h ago`;
  return when.slice(0, 10);
}

export const time = (when: string) => new Date(when).toLocaleString(undefined, { year: "numeric", month: "short", day: "numeric", hour: "2-digit", minute: "2-digit", second: "2-digit", hourCycle: "h23" });
