import { describe, expect, it } from "vitest";
import { readTable, records } from "./table";

describe("tables of devices", () => {
  it("are comma-separated values with a line of headings", () => {
    const { rows, wrong } = readTable(
      '\n# piers\ndevice,device.to,place,note\nap1,8.5.5,"Kiosk, ""north""",\n\nap2,, ramp ,x\n',
    );
    expect(wrong).toEqual([]);
    expect(rows).toEqual([
      { device: "ap1", line: 4, values: { place: 'Kiosk, "north"' }, about: { to: "8.5.5" } },
      { device: "ap2", line: 6, values: { place: "ramp", note: "x" }, about: {} },
    ]);
  });
  it("keep line ends that are quoted", () => {
    expect(records('a,b\n"1\n2",3\n4,5')).toEqual([
      { line: 1, fields: ["a", "b"] },
      { line: 2, fields: ["1\n2", "3"] },
      { line: 4, fields: ["4", "5"] },
    ]);
  });
  it("tell what is wrong with its line", () => {
    expect(readTable("").wrong).toEqual(["The table is empty."]);
    expect(readTable("name\nx").wrong).toEqual(["There is no column device."]);
    expect(readTable("device,a\nx\n,1\ny,1\ny,2").wrong).toEqual([
      "Line 2 has 1 columns, and the headings are 2.",
      "Line 3 names no device.",
      "Line 5: y stands there twice.",
    ]);
    expect(readTable("device").wrong).toEqual(["The table names no device."]);
  });
});
