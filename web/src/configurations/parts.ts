// What the parts of the page of a conversion are handed.
import { type Conversion, type ConversionChange } from "../shared/api";

export type SideProps = {
  c: Conversion;
  busy: boolean;
  change: (b: ConversionChange) => void;
  jump: (left: number, right: number) => void;
};

export type Tab = "ledger" | "decisions" | "ports" | "edits" | "checks";
