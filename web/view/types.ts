// The messages between a live page and its host, as src/relatum/view/protocol.py has them.

export type Axis = "rows" | "columns";
export type Part = "values" | Axis | "where" | "keep";

export interface Parts {
  rows: string[];
  columns: string[];
  values: string[];
  where: string;
  keep: string;
  totals: boolean;
  show_empty: boolean;
  values_on: Axis;
  style: unknown[];
}

export interface Order { formula: string; descending: boolean }
export interface Best { edge: "top" | "bottom"; number: number; by: Order[] }

export interface FieldWords {
  text: string; label: string; field: string; upto: string; by: Order[]; best: Best | null;
  others: boolean; total: "none" | "before" | "after" | null; closing: string;
}
export interface ValueWords { text: string; label: string; formula: string; options: Record<string, string | number> }
export interface Choice { rest: boolean; members: string[] }
export interface FilterWords { text: string; loose: boolean; column: string; choice: Choice | null }
export interface Words {
  values: ValueWords[]; rows: FieldWords[]; columns: FieldWords[]; where: FilterWords[]; keep: string[];
}

export interface ColumnName { name: string; short: string; label: string; type: string; about: string }
export interface MeasureName { name: string; label: string; about: string; formula: string; format: string }
export interface Names {
  tables: { name: string; about: string; rows: number; columns: ColumnName[] }[];
  measures: MeasureName[];
  hierarchies: { name: string; levels: string[]; about: string }[];
  pivots: { name: string; about: string; request: Parts }[];
  functions: { name: string; signature: string; about: string }[];
}

export interface Opened {
  model: string; locale: string; file: string; can: { edit: boolean; save: boolean }; start: Parts; names: Names;
  charts: string[]; endings: string[]; theme: string;
}

export interface LookShape {
  colour: [string, string] | null; fill: [string, string] | null; bold: boolean | null; mark: string;
  bar: [number, number] | null; barPaint: [string, string] | null;
}
export type Looks = (LookShape | null)[];
export interface LineHead { t: string; d: number; k: string; v: number; l: number; total: boolean; cells: boolean; can: string }
export interface ColumnHead {
  labels: { t: string; c: number; l: number }[]; v: number; total: boolean; w: number; can: string;
}
export interface Shown {
  rows: LineHead[]; columns: ColumnHead[]; depth: number; heading: string; headWidth: number;
  values: { heading: string; label: string; formula: string; about: string }[];
  fields: Record<Axis, { label: string; name: string; source: number }[]>;
  filters: string[]; notes: string[];
  legend: { look: number; sample: string; text: string; shades: [string, string][] }[];
  looks: Looks;
}
export interface Forms { shell: string; python: string; file: string }
export interface Said { request: Parts; words: Words; text: string; forms: Forms }
export interface Answer extends Said { grid: number; shown: Shown; cells: Cells }
export interface Cells {
  rows: [number, number]; columns: [number, number]; texts: (string | null)[];
  styled: Record<string, number>; kinds: Record<string, string>; looks?: Looks;
}
export interface Member { text: string; key: string; count: string; there: boolean }
export interface MemberPage { members: Member[]; total: number; present: number; counts: string; without: string[] }
export interface BlockCell { t: string; number: boolean; bold: boolean; faint: boolean }
export type TextBlock = { line: string; bold: boolean; faint: boolean } | { heads: BlockCell[][]; rows: BlockCell[][] };
export interface Explanation {
  head: TextBlock[]; evidence: { blocks: TextBlock[]; count: number; kind: string }[];
  difference: TextBlock[]; by: string; notes: string[];
}
export interface RowsPage { heads: string[]; numbers: boolean[]; rows: string[][]; total: number; first: number }
export interface Chart { svg: string; choice: string; notes: string[] }
export interface FileBytes { name: string; bytes: string }
export interface Finding { severity: "problem" | "doubt" | "remark"; subject: string; text: string; fix: string; effect: string }
export interface Impact {
  thing: string; breaks: { name: string; path: string[] }[]; changes: { effect: string; names: string[] }[];
}
export interface TableSeen {
  name: string; id: string; kind: string; rows: number; bytes: number; key: string[]; source: string; about: string;
  columns: {
    name: string; type: string; members: number; nulls: number; bytes: number; stored: string; formula: string; about: string;
  }[];
}
export interface RelationshipSeen {
  link: string; kind: string; direction: string; directions: string[]; standby: boolean; match: string; filters: string;
  rows: number; matched: number; problem: string; id: string;
}
export interface ModelSeen { svg: string; tables: TableSeen[]; relationships: RelationshipSeen[]; measures: MeasureName[] }
export type Edit =
  | { edit: "writemeasure"; name: string; formula: string; format: string; about: string }
  | { edit: "direct"; link: string; direction: string; standby: boolean }
  | { edit: "rename"; name: string; new: string }
  | { edit: "remove"; name: string; force: boolean }
  | { edit: "keeppivot"; name: string; request: Parts; about: string };
export interface Tried { changes: string[]; impact: Impact | null; moved?: string; grid?: number; shown?: Shown; cells?: Cells }
export interface Fault { reason: string; fix: string; text: string; start: number; stop: number; stopped: boolean }
export interface Message { kind: string; [name: string]: unknown }
