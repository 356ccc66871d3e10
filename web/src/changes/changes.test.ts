import { describe, expect, it } from "vitest";
import type { Change } from "../shared/api";
import { operationOf, told } from "./operations";
import { byWayOf, pathOf, purposeOf } from "./purpose";

const change = (c: object) => ({ from: "1", to: "3", steps: [], ...c }) as unknown as Change;
const path = { hops: [{ to: "2" }, { to: "3" }] };

describe("purposes", () => {
  it("are one for each kind", () => {
    expect(byWayOf(purposeOf(change({ kind: "firmware", path })))).toBe("2");
    expect(byWayOf(purposeOf(change({ kind: "firmware" })))).toBe("");
    expect(byWayOf(purposeOf(change({ kind: "back", path })))).toBe("the previous installation");
    expect(byWayOf(purposeOf(change({ kind: "operations", path })))).toBe("single operations");
    expect(byWayOf(purposeOf(change({ kind: "restore", restore: { backup: 7, parts: [] } })))).toBe(
      "backup 7 goes back",
    );
  });
  it("name the box and its controller", () => {
    const members = [{ device: "wc1" }, { device: "ap1" }];
    expect(byWayOf(purposeOf(change({ kind: "join", members })))).toBe("ap1 comes under wc1");
    expect(byWayOf(purposeOf(change({ kind: "release", members })))).toBe("ap1 leaves wc1 and stands alone");
    expect(pathOf(purposeOf(change({ kind: "join", members })))).toBeUndefined();
  });
  it("name services that move, a few of many", () => {
    const services = { services: ["a", "b", "c", "d", "e", "f"], as: [] };
    expect(byWayOf(purposeOf(change({ kind: "move", services: { ...services, from: "sg1" } })))).toBe(
      "gets of sg1: a, b, c, d and 2 more",
    );
    expect(byWayOf(purposeOf(change({ kind: "withdraw", services })))).toBe("no longer serves a, b, c, d and 2 more");
  });
  it("have a path where the device goes along one", () => {
    expect(pathOf(purposeOf(change({ kind: "firmware", path })))).toBe(path);
    expect(pathOf(purposeOf(change({ kind: "firmware" })))).toBeUndefined();
    expect(pathOf(purposeOf(change({ kind: "operations", path })))).toBeUndefined();
    expect(pathOf(purposeOf(change({ kind: "restore" })))).toBeUndefined();
  });
});

describe("operations", () => {
  it("carry what their kind takes, and nothing else", () => {
    expect(operationOf("backup", "", "x", "k", true)).toEqual({ kind: "backup" });
    expect(operationOf("send", "image", " a.img ", "", false)).toEqual({ kind: "send", file: "a.img" });
    expect(operationOf("clean-up", "files", "a, b,,", "", false)).toEqual({ kind: "clean-up", files: ["a", "b"] });
    expect(operationOf("power", "part", "cards", "", false)).toEqual({ kind: "power", part: "cards" });
    expect(operationOf("hand", "text", "look", "", false)).toEqual({ kind: "hand", text: "look" });
    expect(operationOf("licence", "licence", "full", "k", false)).toEqual({ kind: "licence", part: "full", key: "k" });
    expect(operationOf("choose-slot", "once", "", "", true)).toEqual({ kind: "choose-slot", once: true });
    expect(operationOf("choose-slot", "once", "", "", false)).toEqual({ kind: "choose-slot" });
  });
  it("are told without their key", () => {
    expect(told("Add licence", { kind: "licence", part: "full", key: "secret" })).toBe("Add licence: full");
    expect(told("Choose slot", { kind: "choose-slot", once: true })).toBe("Choose slot, once");
  });
});
