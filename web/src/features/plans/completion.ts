import type { Completion, CompletionContext, CompletionResult } from "@codemirror/autocomplete";

/** The parts of a JSON Schema that plan files use. */
export interface Schema {
  type?: string;
  properties?: Record<string, Schema>;
  items?: Schema;
  oneOf?: Schema[];
  enum?: string[];
  const?: string;
  description?: string;
  default?: unknown;
}

const object = (schema: Schema | undefined): Schema | undefined => (schema?.oneOf ? schema.oneOf.find((one) => one.type === "object") : schema);

interface Line {
  indent: number;
  dash: boolean;
  key: string;
}

/** A line of YAML: how deep its key stands (behind a dash, if there is one), and the key. */
function read(text: string): Line | null {
  const match = /^(\s*)(- +)?(?:([\w-]+)\s*:)?/.exec(text);
  if (!match || !text.trim() || text.trim().startsWith("#")) return null;
  return { indent: (match[1]?.length ?? 0) + (match[2]?.length ?? 0), dash: !!match[2], key: match[3] ?? "" };
}

/** The schema of the object that stands at a depth, found by the keys of the lines above it. */
export function schemaAt(schema: Schema, above: string[], indent: number): Schema | undefined {
  const path: string[] = [];
  let depth = indent;
  for (const text of [...above].reverse()) {
    const line = read(text);
    if (!line || line.indent >= depth) continue;
    if (line.key) {
      path.unshift(line.key);
      depth = line.indent;
    }
    if (depth === 0) break;
  }
  let here: Schema | undefined = schema;
  for (const key of path) {
    const next: Schema | undefined = object(here)?.properties?.[key];
    here = next?.type === "array" ? next.items : next;
  }
  return object(here);
}

/** What could stand at the cursor: keys of the schema, values of an enumeration, names of workloads. */
export function completer(schema: Schema, workloads: () => string[]) {
  return (context: CompletionContext): CompletionResult | null => {
    const line = context.state.doc.lineAt(context.pos);
    const before = line.text.slice(0, context.pos - line.from);
    const above = context.state.doc.sliceString(0, Math.max(line.from - 1, 0)).split("\n");
    const value = /^(\s*)(- +)?([\w-]+):\s+(\[[^\]]*?)?([\w-]*)$/.exec(before);
    if (value) {
      const [, space = "", dash = "", key = "", , typed = ""] = value;
      const at = schemaAt(schema, above, space.length + dash.length)?.properties?.[key];
      const names = key === "workload" || key === "depends_on" ? workloads() : [];
      const words = at?.enum ?? at?.items?.enum ?? (at?.type === "boolean" ? ["true", "false"] : at?.const ? [at.const] : names);
      if (!words.length) return null;
      return { from: context.pos - typed.length, options: words.map((label) => ({ label, type: "constant" })) };
    }
    const start = /^(\s*)(- +)?([\w-]*)$/.exec(before);
    if (!start || (!context.explicit && !start[3])) return null;
    const [, space = "", dash = "", typed = ""] = start;
    const at = schemaAt(schema, above, space.length + dash.length);
    const options: Completion[] = Object.entries(at?.properties ?? {}).map(([label, one]) => ({
      label,
      type: "property",
      apply: `${label}: `,
      info: [one.description, one.default === undefined ? "" : `usually ${JSON.stringify(one.default)}`].filter(Boolean).join(" "),
    }));
    if (dash && at?.properties?.workload) options.unshift(...workloads().map((label) => ({ label, type: "variable" })));
    return options.length ? { from: context.pos - typed.length, options } : null;
  };
}
