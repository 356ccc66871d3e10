// Two texts side by side, with a mark in the gutter for every line something is said of.
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { MergeView } from "@codemirror/merge";
import { Compartment, EditorState, RangeSet, type Extension } from "@codemirror/state";
import { EditorView, gutter, GutterMarker, keymap, lineNumbers } from "@codemirror/view";
import { useEffect, useImperativeHandle, useRef, type Ref } from "react";
import { marks } from "./marks";

export type Jump = { jump: (left: number, right: number) => void };

class LineMark extends GutterMarker {
  constructor(readonly kind: string) {
    super();
  }
  eq(other: LineMark) {
    return other.kind === this.kind;
  }
  toDOM() {
    const m = marks[this.kind];
    const e = document.createElement("span");
    e.className = `inline-block w-4 rounded-sm text-center font-mono text-xs font-bold ${m.look}`;
    e.textContent = m.sign;
    e.title = m.words;
    return e;
  }
}

export const look = EditorView.theme({
  "&": { fontSize: "12px" },
  ".cm-content": { fontFamily: "ui-monospace, monospace" },
  ".cm-gutters": { backgroundColor: "transparent", color: "inherit", border: "none" },
  ".cm-lineNumbers .cm-gutterElement": { opacity: "0.75" },
  ".cm-activeLine": { backgroundColor: "rgba(230,159,0,0.18)" },
});

function lineMarks(kinds: Map<number, string>): Extension {
  return gutter({
    class: "w-6",
    markers: (view) => {
      const at = [];
      for (let n = 1; n <= view.state.doc.lines; n++) {
        const kind = kinds.get(n);
        if (kind && kind !== "kept") at.push(new LineMark(kind).range(view.state.doc.line(n).from));
      }
      return RangeSet.of(at);
    },
  });
}

export function SideBySide({
  left,
  right,
  leftKinds,
  rightKinds,
  names,
  editable,
  onEdit,
  ref,
}: {
  left: string;
  right: string;
  leftKinds: Map<number, string>;
  rightKinds: Map<number, string>;
  names: [string, string];
  editable?: boolean;
  onEdit?: (text: string) => void;
  ref?: Ref<Jump>;
}) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<MergeView>(null);
  const shown = useRef(new Compartment()); // the marks, which change more often than the texts
  const edited = useRef(onEdit);
  edited.current = onEdit;
  const marks = useRef({ leftKinds, rightKinds, names }); // as they are when the texts change
  marks.current = { leftKinds, rightKinds, names };
  useEffect(() => {
    const side = (kinds: Map<number, string>, name: string, fixed: boolean): Extension[] => [
      lineNumbers(),
      shown.current.of(lineMarks(kinds)),
      look,
      EditorView.lineWrapping,
      keymap.of([...defaultKeymap, ...historyKeymap]),
      history(),
      EditorView.contentAttributes.of({ "aria-label": name }),
      fixed
        ? [
            EditorState.readOnly.of(true),
            EditorView.editable.of(false),
            EditorView.contentAttributes.of({ tabindex: "0" }),
          ]
        : EditorView.updateListener.of((u) => {
            if (u.docChanged) edited.current?.(u.state.doc.toString());
          }),
    ];
    const v = new MergeView({
      a: { doc: left, extensions: side(marks.current.leftKinds, marks.current.names[0], true) },
      b: { doc: right, extensions: side(marks.current.rightKinds, marks.current.names[1], !editable) },
      parent: place.current!,
      gutter: true,
      highlightChanges: true,
      diffConfig: { scanLimit: 20000, timeout: 1500 },
    });
    view.current = v;
    return () => v.destroy();
  }, [left, right, editable]);
  useEffect(() => {
    view.current?.a.dispatch({ effects: shown.current.reconfigure(lineMarks(leftKinds)) });
    view.current?.b.dispatch({ effects: shown.current.reconfigure(lineMarks(rightKinds)) });
  }, [leftKinds, rightKinds]);
  useImperativeHandle(
    ref,
    () => ({
      jump(l, r) {
        for (const [v, n] of [
          [view.current?.a, l],
          [view.current?.b, r],
        ] as const) {
          if (!v || n < 1 || n > v.state.doc.lines) continue;
          const at = v.state.doc.line(n);
          v.dispatch({
            selection: { anchor: at.from, head: at.to },
            effects: EditorView.scrollIntoView(at.from, { y: "center" }),
          });
        }
        (r > 0 ? view.current?.b : view.current?.a)?.focus();
      },
    }),
    [],
  );
  return (
    <div>
      <div className="grid grid-cols-2 border-b border-line pb-1 text-xs font-semibold dark:border-nightline">
        <span>{names[0]}</span>
        <span>{names[1]}</span>
      </div>
      <div ref={place} className="h-[62vh] overflow-y-auto" />
    </div>
  );
}
