/** Paper and ink, cool; one accent. Colours are set once here and in styles.css. */
import { createTheme, type CSSVariablesResolver, type MantineColorsTuple } from "@mantine/core";

const spruce: MantineColorsTuple = ["#EEF6F3", "#DCEBE5", "#B9D8CC", "#93C4B1", "#6DBFA6", "#4A9A82", "#2F7A66", "#1F5C4D", "#194B3F", "#123930"];
// ink, soft inks, hairlines, sheets and the page in the dark, in the places where the components look for them
const dark: MantineColorsTuple = ["#E3EBE8", "#C6D2CE", "#9FB0AB", "#9FB0AB", "#2B3734", "#24302D", "#18211F", "#18211F", "#131B1A", "#101716"];

export const theme = createTheme({
  primaryColor: "spruce",
  primaryShade: { light: 7, dark: 4 },
  colors: { spruce, dark },
  autoContrast: true,
  luminanceThreshold: 0.35,
  fontFamily: "'Atkinson Hyperlegible Next', system-ui, sans-serif",
  fontFamilyMonospace: "'Atkinson Hyperlegible Mono', ui-monospace, monospace",
  headings: { fontFamily: "'Atkinson Hyperlegible Next', system-ui, sans-serif", fontWeight: "650" },
  defaultRadius: 4,
  fontSizes: { xs: "12.5px", sm: "14px", md: "15px", lg: "17px", xl: "20px" },
  shadows: { xs: "none", sm: "none", md: "none" },
});

/** What the components call their colours, said in ours: the same in light and dark, since ours change with it. */
const OWN = {
  "--mantine-color-body": "var(--sheet)",
  "--mantine-color-text": "var(--ink)",
  "--mantine-color-dimmed": "var(--soft)",
  "--mantine-color-placeholder": "var(--soft)",
  "--mantine-color-error": "var(--red)",
  "--mantine-color-default": "var(--sheet)",
  "--mantine-color-default-hover": "var(--accent-soft)",
  "--mantine-color-default-color": "var(--ink)",
  "--mantine-color-default-border": "var(--hair)",
  "--mantine-color-disabled": "var(--accent-soft)",
  "--mantine-color-disabled-color": "var(--soft)",
  "--mantine-color-disabled-border": "var(--hair)",
};
export const colours: CSSVariablesResolver = () => ({ variables: {}, light: OWN, dark: OWN });
