import { describe, expect, it } from "vitest";
import { bySite, linesOf, plain } from "./words";

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
  it("takes the lines that say something", () => expect(linesOf(" a / b \n\n c\n")).toEqual(["a / b", "c"]));
  it("reads a state as words", () => expect(plain("coming-back")).toBe("coming back"));
});
