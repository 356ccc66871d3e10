import { describe, expect, it } from "vitest";
import { pieces } from "./answer";

describe("pieces of an answer", () => {
  it("cuts at marks, which count bytes", () => {
    expect(pieces("größe 12 MiB", [{ from: 8, to: 10, group: "total" }])).toEqual([
      { text: "größe " },
      { text: "12", group: "total" },
      { text: " MiB" },
    ]);
  });
  it("shows the outer one of marks inside each other, and no whole matches", () => {
    expect(
      pieces("lb-2.1.img", [
        { from: 0, to: 10, group: "" },
        { from: 3, to: 6, group: "version" },
        { from: 0, to: 10, group: "slot" },
      ]),
    ).toEqual([{ text: "lb-2.1.img", group: "slot" }]);
  });
  it("leaves an answer without marks, and marks beyond it, alone", () => {
    expect(pieces("ok", [{ from: 1, to: 9, group: "x" }])).toEqual([{ text: "ok" }]);
  });
});
