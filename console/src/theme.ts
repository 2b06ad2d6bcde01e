/** Paper and ink, cool; one accent. Colours are set once here and in styles.css. */
import { createTheme, type MantineColorsTuple } from "@mantine/core";

const spruce: MantineColorsTuple = ["#EEF6F3", "#DCEBE5", "#B9D8CC", "#93C4B1", "#6DBFA6", "#4A9A82", "#2F7A66", "#1F5C4D", "#194B3F", "#123930"];

export const theme = createTheme({
  primaryColor: "spruce",
  primaryShade: { light: 7, dark: 4 },
  colors: { spruce },
  autoContrast: true,
  luminanceThreshold: 0.35,
  fontFamily: "'Atkinson Hyperlegible Next', system-ui, sans-serif",
  fontFamilyMonospace: "'Atkinson Hyperlegible Mono', ui-monospace, monospace",
  headings: { fontFamily: "'Atkinson Hyperlegible Next', system-ui, sans-serif", fontWeight: "650" },
  defaultRadius: 4,
  fontSizes: { xs: "12.5px", sm: "14px", md: "15px", lg: "17px", xl: "20px" },
  shadows: { xs: "none", sm: "none", md: "none" },
});
