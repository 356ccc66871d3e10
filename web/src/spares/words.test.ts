import { describe, expect, it } from "vitest";
import { bySite, linesOf, plain, summary } from "./words";

const cover = (site: string, device: string, state: "none" | "prepared") => ({
  site,
  device,
  state,
  model: "B4",
  why: "",
});

describe("spares", () => {
  it("puts the site first that lacks most, and keeps its devices together", () => {
    const all = [
      cover("Quay", "q1", "prepared"),
      cover("Pier", "p1", "none"),
      cover("Quay", "q2", "none"),
      cover("Pier", "p2", "none"),
    ];
    expect(bySite(all).map((s) => [s.site, s.missing, s.devices.map((d) => d.device).join(" ")])).toEqual([
      ["Pier", 2, "p1 p2"],
      ["Quay", 1, "q1 q2"],
    ]);
  });
  it("does not count a doubt as covered", () => {
    const all = (["prepared", "in-stock", "doubt", "stale", "none"] as const).map((state) => ({
      ...cover("Pier", state, "none"),
      state,
    }));
    expect(summary(all)).toBe(
      "2 of 5 devices have a unit that is sure to stand in for them; 2 have one that is out of date or in doubt; 1 has none.",
    );
    expect(summary(all.slice(0, 2))).toBe("Every device has a unit that is sure to stand in for it.");
    expect(summary(all.slice(2, 3))).toContain("0 of 1 devices");
  });
  it("takes the lines that say something", () => expect(linesOf(" a / b \n\n c\n")).toEqual(["a / b", "c"]));
  it("reads a state as words", () => expect(plain("coming-back")).toBe("coming back"));
});
