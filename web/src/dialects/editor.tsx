// The text of a dialect, with a mark at every line something was found in.
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { Compartment, EditorState, RangeSet, type Extension } from "@codemirror/state";
import { EditorView, gutter, GutterMarker, keymap, lineNumbers } from "@codemirror/view";
import { useEffect, useImperativeHandle, useRef, type Ref } from "react";
import type { S } from "../shared/api";
import { look } from "../shared/sidebyside";

export type Finding = S["DialectFinding"];
export type Go = { to: (line: number, column: number) => void };

class FindingMark extends GutterMarker {
  constructor(readonly found: Finding) {
    super();
  }
  eq(other: FindingMark) {
    return other.found === this.found;
  }
  toDOM() {
    const e = document.createElement("span");
    e.className = this.found.doubt
      ? "font-bold text-amber-800 dark:text-amber-300"
      : "font-bold text-rose-800 dark:text-rose-300";
    e.textContent = this.found.doubt ? "?" : "×";
    e.title = this.found.message;
    return e;
  }
}

const findingMarks = (found: Finding[]): Extension =>
  gutter({
    class: "w-4",
    markers: (view) => {
      const lines = [...found].filter((f) => f.line <= view.state.doc.lines).sort((a, b) => a.line - b.line);
      return RangeSet.of(lines.map((f) => new FindingMark(f).range(view.state.doc.line(Math.max(f.line, 1)).from)));
    },
  });

export function Editor({
  text,
  found,
  onEdit,
  ref,
}: {
  text: string;
  found: Finding[];
  onEdit: (text: string) => void;
  ref?: Ref<Go>;
}) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const marks = useRef(new Compartment());
  const edited = useRef(onEdit);
  edited.current = onEdit;
  useEffect(() => {
    const v = new EditorView({
      parent: place.current!,
      state: EditorState.create({
        extensions: [
          lineNumbers(),
          marks.current.of([]),
          history(),
          keymap.of([...defaultKeymap, ...historyKeymap, indentWithTab]),
          look,
          EditorView.contentAttributes.of({ "aria-label": "Text of the dialect" }),
          EditorView.updateListener.of((u) => u.docChanged && edited.current(u.state.doc.toString())),
        ],
      }),
    });
    v.scrollDOM.tabIndex = 0; // it can be scrolled with keys
    view.current = v;
    return () => v.destroy();
  }, []);
  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== text)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: text } });
  }, [text]);
  useEffect(() => view.current?.dispatch({ effects: marks.current.reconfigure(findingMarks(found)) }), [found]);
  useImperativeHandle(ref, () => ({
    to: (line, column) => {
      const v = view.current;
      if (!v) return;
      const at = v.state.doc.line(Math.min(Math.max(line, 1), v.state.doc.lines));
      v.dispatch({ selection: { anchor: Math.min(at.from + Math.max(column - 1, 0), at.to) }, scrollIntoView: true });
      v.focus();
    },
  }));
  return (
    <div
      ref={place}
      className="h-[28rem] overflow-auto rounded-sm border border-slate-400 text-sm dark:border-slate-600 [&_.cm-editor]:h-full"
    />
  );
}
