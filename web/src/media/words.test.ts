import { describe, expect, it } from "vitest";
import type { S } from "../shared/api";
import { age, summary } from "./words";

const cover = (state: string) => ({ device: "d", site: "", model: "", why: "", state }) as S["MediumCover"];

describe("media", () => {
  it("have an age in whole days", () => {
    const now = Date.parse("2026-11-30T12:00:00Z");
    expect(age(undefined, now)).toBe("");
    expect(age("2026-11-30T00:00:00Z", now)).toBe("0 days");
    expect(age("2026-11-29T11:00:00Z", now)).toBe("1 day");
    expect(age("2026-11-01T11:00:00Z", now)).toBe("29 days");
  });
  it("cover devices, or do not: a doubt is no cover", () => {
    expect(summary([cover("good")])).toContain("Every device");
    expect(summary([cover("good"), cover("doubt"), cover("old"), cover("none")])).toContain("3 of 4 devices");
  });
});
