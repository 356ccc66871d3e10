import { afterEach, describe, expect, it } from "vitest";
import { ago, duration, momentOf, onTheWall, setZone, size, span, zoneName } from "./format";

afterEach(() => setZone("UTC"));

describe("durations carry units", () => {
  it.each([
    [0, "0 s"],
    [-4, "0 s"],
    [28.4, "28 s"],
    [60, "1 min"],
    [95, "1 min 35 s"],
    [3600, "1 h"],
    [3900, "1 h 5 min"],
  ])("%s seconds", (seconds, text) => expect(duration(seconds)).toBe(text));
  it("says the unit of both ends once", () => {
    expect(span(28, 95)).toBe("28 s to 1 min 35 s");
    expect(span(1020, 2700)).toBe("17 to 45 min");
    expect(span(5, 9)).toBe("5 to 9 s");
  });
});

describe("the clock on the wall", () => {
  it("goes both ways in the zone of the installation", () => {
    setZone("Europe/Oslo");
    expect(onTheWall("2026-01-02T03:04:00Z")).toBe("2026-01-02T04:04");
    expect(momentOf("2026-01-02T04:04")).toBe("2026-01-02T03:04:00.000Z");
    expect(momentOf("2026-07-02T04:04")).toBe("2026-07-02T02:04:00.000Z");
    expect(onTheWall()).toBe("");
    expect(momentOf("")).toBeUndefined();
  });
  it("keeps its zone when it is told one that nobody knows", () => {
    setZone("Nowhere/Pier");
    expect(zoneName()).toBe("UTC");
  });
});

it("tells sizes and ages", () => {
  expect(size(512)).toBe("0.5 KiB");
  expect(size(3 << 20)).toBe("3.0 MiB");
  const before = (seconds: number) => new Date(Date.now() - seconds * 1000).toISOString();
  expect(ago(before(5))).toBe("just now");
  expect(ago(before(125))).toBe("2 min ago");
  expect(ago(before(7300))).toBe("2 h ago");
  expect(ago(before(3 * 86400))).toMatch(/^\d{4}-\d\d-\d\d$/);
});
