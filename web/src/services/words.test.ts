import { describe, expect, it } from "vitest";
import type { S } from "../shared/api";
import { changeOf, counts, standing, wishOf } from "./words";

const stand = (x: Partial<S["ServiceStand"]>) =>
  ({ name: "web", path: "", line: 1, address: "", policy: "", stands: "here", ...x }) as S["ServiceStand"];

describe("services", () => {
  it("stand where their changes left them", () => {
    expect(standing(stand({}))).toBe("");
    expect(standing(stand({ stands: "both", to: "sg2", as: "web" }))).toBe("on sg2 as well");
    expect(standing(stand({ stands: "moving", to: "sg2", as: "shop" }))).toBe("goes to sg2 as shop");
    expect(standing(stand({ stands: "gone", to: "sg2", as: "web" }))).toBe("on sg2");
    expect(standing(stand({ stands: "gone" }))).toBe("taken off");
    expect(changeOf(stand({ stands: "gone", put: 1, off: 2 }))).toBe(2);
    expect(changeOf(stand({ stands: "both", put: 1 }))).toBe(1);
    expect(counts({ gone: 2, here: 40, both: 0 })).toBe("40 here, 2 gone");
  });
  it("are wished for with what was said alone", () => {
    const treat = { rename: { a: " b ", c: "" }, use: {} };
    expect(wishOf("sg1", "sg2", ["web"], treat, " tcp:a:1 \n\n", { unproven: true })).toEqual({
      device: "sg2",
      from: "sg1",
      services: ["web"],
      rename: { a: "b" },
      use: undefined,
      checks: ["tcp:a:1"],
      sameKey: undefined,
    });
    expect(wishOf("sg1", "", ["web"], treat, "", { unproven: true })).toEqual({
      device: "sg1",
      services: ["web"],
      checks: undefined,
      unproven: true,
    });
  });
});
