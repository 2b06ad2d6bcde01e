/** A record type as a table of fields, and back: what the table does not show is kept as it was. */
export interface FieldRow {
  list: string; // the list it belongs to; empty for the record itself
  name: string;
  type: string; // one of TYPES
  meaning: string;
  labels: string; // how documents call it, parted by commas
  examples: string;
  required: boolean;
  manner: string; // how it comes by its value, where that is set; empty where it is found
}

type Schema = Record<string, unknown>;

export const TYPES = ["text", "number", "date", "yes/no", "choice", "moment", "time", "mail", "web address", "phone", "iban", "vat number", "article number", "currency", "other"] as const;
/** How a field comes by its value: it stands there, in another form, is decided from what is said, or worked out. */
export const MANNERS = ["copied", "mapped", "decided", "derived"] as const;
const KINDS = ["phone", "iban", "vat number", "article number", "currency"];
const FORMATS: Record<string, string> = { date: "date", moment: "date-time", time: "time", mail: "email", "web address": "uri" };

const part = (schema: Schema, name: string): Schema => (schema[name] ?? {}) as Schema;
const listed = (value: unknown): string => (Array.isArray(value) ? value.map(String).join(", ") : "");
const parted = (text: string): string[] => text.split(",").map((each) => each.trim()).filter(Boolean);

const without = (schema: Schema, ...names: string[]): Schema => Object.fromEntries(Object.entries(schema).filter(([name]) => !names.includes(name)));

function typeOf(schema: Schema): string {
  const ours = part(schema, "x-metrikon");
  if (KINDS.includes(String(ours["kind"]))) return String(ours["kind"]);
  if (schema["enum"]) return "choice";
  const format = Object.entries(FORMATS).find(([, value]) => value === schema["format"]);
  if (format) return format[0];
  const type = Array.isArray(schema["type"]) ? (schema["type"] as string[]).find((each) => each !== "null") : schema["type"];
  return ({ string: "text", number: "number", integer: "number", boolean: "yes/no" } as Record<string, string>)[String(type)] ?? "other";
}

function rowsOf(schema: Schema, list: string): FieldRow[] {
  const required = (schema["required"] ?? []) as string[];
  return Object.entries(part(schema, "properties")).flatMap(([name, given]) => {
    const field = given as Schema;
    const items = part(field, "items");
    if (!list && items["properties"]) return rowsOf(items, name);
    return [
      {
        list,
        name,
        type: typeOf(field),
        meaning: String(field["description"] ?? ""),
        labels: listed(part(field, "x-metrikon")["labels"]),
        examples: field["enum"] ? listed(field["enum"]) : listed(field["examples"]),
        required: required.includes(name),
        manner: String(part(field, "x-metrikon")["manner"] ?? ""),
      },
    ];
  });
}

/** The fields of a record type, those of its lists after it. */
export const fieldsOf = (schema: Schema): FieldRow[] => rowsOf(schema, "");

function schemaOf(row: FieldRow, before: Schema): Schema {
  const kept = without(before, "enum", "format", "examples", "description");
  const ours = without(part(before, "x-metrikon"), "kind", "labels", "manner");
  const kind = part(before, "x-metrikon")["kind"];
  const plain = typeOf(before) === row.type;
  const type = plain ? before["type"] : ({ number: "number", "yes/no": "boolean" } as Record<string, string>)[row.type] ?? "string";
  const own = { ...ours, ...(KINDS.includes(row.type) ? { kind: row.type } : kind && plain ? { kind } : {}), ...(row.labels ? { labels: parted(row.labels) } : {}), ...(row.manner ? { manner: row.manner } : {}) };
  const examples = parted(row.examples).map((each) => (row.type === "number" && each !== "" && !Number.isNaN(Number(each)) ? Number(each) : each));
  return {
    ...kept,
    type,
    ...(row.type === "choice" ? { enum: parted(row.examples) } : examples.length ? { examples } : {}),
    ...(FORMATS[row.type] ? { format: FORMATS[row.type] } : plain && before["format"] ? { format: before["format"] } : {}),
    ...(row.meaning ? { description: row.meaning } : {}),
    ...(Object.keys(own).length ? { "x-metrikon": own } : {}),
  };
}

function withFields(schema: Schema, rows: FieldRow[]): Schema {
  const before = part(schema, "properties");
  const properties = Object.fromEntries(rows.map((row) => [row.name, row.type === "other" ? before[row.name] : schemaOf(row, (before[row.name] ?? {}) as Schema)]));
  const required = rows.filter((row) => row.required).map((row) => row.name);
  return { ...without(schema, "required"), properties, ...(required.length ? { required } : {}) };
}

/** The record type with its fields as in the table; lists without fields go. */
export function withRows(schema: Schema, rows: FieldRow[]): Schema {
  const lists = [...new Set(rows.map((row) => row.list).filter(Boolean))];
  const made = withFields(schema, rows.filter((row) => !row.list));
  const before = part(schema, "properties");
  const needed = (schema["required"] ?? []) as string[];
  for (const list of lists) {
    const field = (before[list] ?? { type: "array" }) as Schema;
    const items = withFields({ type: "object", ...part(field, "items") }, rows.filter((row) => row.list === list));
    (made["properties"] as Schema)[list] = { ...field, items };
    if (needed.includes(list)) made["required"] = [...((made["required"] ?? []) as string[]), list];
  }
  return made;
}
