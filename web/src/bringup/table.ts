// Tables of devices as they are typed or pasted: comma-separated values (RFC 4180) with a line of headings.
import type { S } from "../shared/api";

export type Row = S["FillRow"] & { about: Record<string, string> };

/** Splits a text into records of fields, each with the line that it begins in. */
export function records(text: string): { line: number; fields: string[] }[] {
  const out: { line: number; fields: string[] }[] = [];
  let fields: string[] = [];
  let field = "";
  let quoted = false;
  let line = 1;
  let began = 1;
  const end = () => {
    fields.push(field.trim());
    field = "";
    if (fields.some((f) => f !== "") && !fields[0].startsWith("#")) out.push({ line: began, fields });
    fields = [];
  };
  for (let i = 0; i < text.length; i++) {
    const c = text[i];
    if (c === "\n") line++;
    if (quoted) {
      if (c === '"' && text[i + 1] === '"') field += text[++i];
      else if (c === '"') quoted = false;
      else field += c;
    } else if (c === '"' && field.trim() === "") {
      quoted = true;
      field = "";
    } else if (c === ",") {
      fields.push(field.trim());
      field = "";
    } else if (c === "\n") {
      end();
      began = line;
    } else if (c !== "\r") field += c;
  }
  end();
  return out;
}

/** Reads a table: one device a row. What is wrong is told with its line. */
export function readTable(text: string): { rows: Row[]; wrong: string[] } {
  const [head, ...rest] = records(text);
  if (!head) return { rows: [], wrong: ["The table is empty."] };
  const at = head.fields.indexOf("device");
  if (at < 0) return { rows: [], wrong: ["There is no column device."] };
  const wrong: string[] = [];
  const rows: Row[] = [];
  for (const r of rest) {
    const device = r.fields[at];
    if (r.fields.length !== head.fields.length)
      wrong.push(`Line ${r.line} has ${r.fields.length} columns, and the headings are ${head.fields.length}.`);
    else if (!device) wrong.push(`Line ${r.line} names no device.`);
    else if (rows.some((x) => x.device === device)) wrong.push(`Line ${r.line}: ${device} stands there twice.`);
    else {
      const row: Row = { device, line: r.line, values: {}, about: {} };
      head.fields.forEach((name, i) => {
        if (i === at || r.fields[i] === "") return;
        if (name.startsWith("device.")) row.about[name.slice("device.".length)] = r.fields[i];
        else row.values![name] = r.fields[i];
      });
      rows.push(row);
    }
  }
  if (!rows.length && !wrong.length) wrong.push("The table names no device.");
  return { rows, wrong };
}
