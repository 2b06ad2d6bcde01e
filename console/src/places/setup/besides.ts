/** What a record type says besides the table of its fields, in sentences: a person sees all that holds without reading JSON. */
type Schema = Record<string, unknown>;

const part = (schema: Schema, name: string): Schema => (schema[name] ?? {}) as Schema;
const texts = (value: unknown): string[] => (Array.isArray(value) ? value.map(String) : []);
const plain = (pointer: unknown): string => {
  const [list = "", field] = String(pointer).replace(/^\//, "").split("/*/");
  return (field ? `${field} of all ${list}` : list).replaceAll("/", ".").replaceAll("_", " ");
};
const all = (pointers: unknown, by = " and "): string => texts(pointers).map(plain).join(by);

/** How each annotation of a field reads; what is not here is shown as it stands. */
const FIELD: Record<string, (name: string, value: unknown, ours: Schema) => string> = {
  list: (name, value, ours) => `${name} must be on the list ${String(value)}${ours["unknown"] === "warn" ? ", or it is told of" : ""}.`,
  lookup: (name, value) => `${name} is taken from the column ${String((value as Schema)["column"])} of the list ${String((value as Schema)["list"])}, by ${plain((value as Schema)["by"]).replace(/ of all .*/, "")}.`,
  derived: (name, value) => ((value as Schema)["count"] ? `${name} is the number of ${plain((value as Schema)["count"])} where it is not printed.` : `${name} is the sum of ${plain((value as Schema)["sum"])} where it is not printed.`),
  evidence: (name, value) => (value === false ? `${name} need not stand in the document.` : ""),
  unsure: (name, value) => (value === "warn" ? `${name}, when doubtful, is told of and does not stop the record.` : ""),
  means: (name, value) =>
    `${name}: ${Object.entries(value as Schema)
      .map(([option, words]) => `${option} stands as ${texts(words).slice(0, 3).join(", ")}`)
      .join("; ")}.`,
  readings: (name, value) => (Number(value) > 1 ? `${name} is read twice where a second reading is set.` : `One reading is enough for ${name}.`),
  default: (name, value) => `${name} is ${String(value)} where the document says nothing.`,
  form: (name, value) => `${name} has the form ${String(value)}.`,
  rate_between: (name, value) => (value ? `${name}: a percentage may stand between its label and the amount.` : ""),
  not_rows: (name, value) => `${name}: lines that begin with ${texts(value).slice(0, 4).join(", ")} are no rows.`,
  kind: (name, value) => (["sender", "title", "unit", "amount"].includes(String(value)) ? `${name} is read as ${String(value)}.` : ""),
};
const SHOWN = ["labels", "unknown", "terms", "manner"]; // in the table, or said with others

function ofField(name: string, schema: Schema): string[] {
  const ours = part(schema, "x-metrikon");
  const said = Object.entries(ours).filter(([key]) => !SHOWN.includes(key)).map(([key, value]) => (FIELD[key] ? FIELD[key](name, value, ours) : `${name}: ${key} is ${JSON.stringify(value)}.`));
  const items = part(schema, "items");
  const within = Object.entries({ ...part(schema, "properties"), ...part(items, "properties") });
  return [...said.filter(Boolean), ...within.flatMap(([inner, given]) => ofField(`${name} ${inner}`.replaceAll("_", " "), given as Schema))];
}

function termsOf(name: string, schema: Schema): string[] {
  const own = texts(part(schema, "x-metrikon")["terms"]);
  const within = Object.entries({ ...part(schema, "properties"), ...part(part(schema, "items"), "properties") });
  return [...(own.length ? [`${name} ${own.join(" or ")}`] : []), ...within.flatMap(([inner, given]) => termsOf(inner.replaceAll("_", " "), given as Schema))];
}

/** How each annotation of the type as a whole reads. */
const TYPE: Record<string, (value: Schema[]) => string[]> = {
  sums: (rules) => rules.map((rule) => `${all(rule["parts"], " + ")} must come to ${plain(rule["equals"])}${rule["unless"] ? `, unless there is ${plain(rule["unless"])}` : ""}.`),
  products: (rules) => rules.map((rule) => `In each row of ${plain(rule["list"])}, ${all(rule["factors"], " × ")} must be ${plain(rule["equals"])}.`),
  order: (rules) => rules.map((rule) => `${plain(rule["then"])} must not lie before ${plain(rule["first"])}.`),
  rules: (rules) => rules.map((rule) => `${String(rule["holds"])} must hold${rule["message"] ? `, else: ${String(rule["message"])}` : "."}`),
};

/** Sentences over the type, then over its fields. */
export function besides(schema: Schema): string[] {
  const ours = part(schema, "x-metrikon");
  const told = Object.entries(ours).flatMap(([key, value]) => {
    if (key === "key") return [`A second record with the same ${all(value)} waits for a person.`];
    if (key === "alike") return [`A record of another item with the same ${all(value)} is taken for a look-alike.`];
    return TYPE[key]?.(value as Schema[]) ?? [`${key} is ${JSON.stringify(value)}.`];
  });
  const fields = Object.entries(part(schema, "properties")).flatMap(([name, given]) => ofField(name.replaceAll("_", " "), given as Schema));
  const terms = termsOf("", { properties: part(schema, "properties") });
  const carried = terms.length ? [`E-invoices carry ${terms.join(", ")}.`] : [];
  return [...told, ...fields, ...carried].map((text) => text.slice(0, 1).toUpperCase() + text.slice(1));
}
