import { readFileSync } from "node:fs";
import { describe, expect, it } from "vitest";
import { colours, theme } from "../src/theme";

const styles = readFileSync("src/styles.css", "utf-8");

/** The colours of a scheme by their names, as styles.css sets them. */
function scheme(selector: string): Record<string, string> {
  const block = styles.split(`${selector} {`)[1]?.split("}")[0] ?? "";
  return Object.fromEntries([...block.matchAll(/--([a-z-]+): (#[0-9a-f]{6,8})/g)].map((found) => [found[1] ?? "", found[2] ?? ""]));
}

/** How bright a colour is (WCAG 2.2, relative luminance). */
function light(colour: string): number {
  const [r = 0, g = 0, b = 0] = [1, 3, 5].map((at) => {
    const part = parseInt(colour.slice(at, at + 2), 16) / 255;
    return part <= 0.04045 ? part / 12.92 : ((part + 0.055) / 1.055) ** 2.4;
  });
  return 0.2126 * r + 0.7152 * g + 0.0722 * b;
}

/** WCAG 2.2, contrast ratio. */
function contrast(one: string, other: string): number {
  const [dark = 0, bright = 0] = [light(one), light(other)].sort((a, b) => a - b);
  return (bright + 0.05) / (dark + 0.05);
}

const SCHEMES = { light: scheme(":root"), dark: { ...scheme(":root"), ...scheme(':root[data-mantine-color-scheme="dark"]') } };

describe.each(Object.entries(SCHEMES))("in the %s", (_, known) => {
  it.each(["ink", "soft", "accent", "amber", "red"])("%s can be read on every ground", (text) => {
    for (const ground of ["page", "sheet"]) expect(contrast(known[text] ?? "", known[ground] ?? ""), `${text} on ${ground}`).toBeGreaterThanOrEqual(4.5);
  });

  it.each(["ink", "soft"])("%s can be read on what is chosen, pressed or cannot be pressed", (text) => {
    expect(contrast(known[text] ?? "", known["accent-soft"] ?? "")).toBeGreaterThanOrEqual(4.5);
  });
});

describe("the components", () => {
  it("take every colour from ours, the same names in both schemes", () => {
    const told = colours({ ...theme } as Parameters<typeof colours>[0]);
    expect(told.light).toEqual(told.dark);
    for (const said of Object.values(told.light)) expect(Object.keys(SCHEMES.light)).toContain(/var\(--([a-z-]+)\)/.exec(String(said))?.[1]);
  });

  it("have no grey of their own in the dark", () => {
    const ours = Object.values(SCHEMES.dark).map((each) => each.toLowerCase());
    const [ink, , soft, placeholder, line, , field] = (theme.colors?.dark ?? []).map((each) => each.toLowerCase());
    for (const each of [ink, soft, placeholder, line, field]) expect(ours).toContain(each);
  });
});
