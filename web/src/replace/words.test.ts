import { describe, expect, it } from "vitest";
import type { S } from "../shared/api";
import { counted, nextOf, oldOf } from "./words";

const base: S["Replacement"] = {
  change: 7,
  state: "done",
  old: "small",
  new: "large",
  oldModel: "TH-60",
  newModel: "TH-80",
  createdAt: "2026-01-01T00:00:00Z",
  kept: true,
};
const ago = () => "a day ago";

describe("replacements", () => {
  it("tells what became of the old device", () => {
    expect(oldOf(base, ago)).toBe("small is kept as it was: it is the way back.");
    expect(oldOf({ ...base, kept: false, releasedAt: "x", releasedBy: "mara" }, ago)).toBe(
      "small was released a day ago by mara.",
    );
    expect(oldOf({ ...base, kept: false, putBack: 9 }, ago)).toBe("small serves again, by change 9.");
    expect(oldOf({ ...base, kept: false, state: "draft" }, ago)).toBe("");
  });
  it("tells what comes next", () => {
    expect(nextOf({ ...base, state: "draft", kept: false })).toContain("approve");
    expect(nextOf({ ...base, state: "asking", kept: false })).toContain("needs somebody");
    expect(nextOf(base)).toContain("Release it");
    expect(nextOf({ ...base, kept: false })).toBe("");
    expect(nextOf({ ...base, state: "failed", kept: false })).toBe("");
  });
  it("counts statements", () => {
    expect(counted(1, 8, "port p1")).toBe("line 8, port p1");
    expect(counted(3, 8, "port p1")).toBe("3 statements, the first in line 8, port p1");
  });
});
