/** Every colour of the console: ink, paper, water, brass and brick, by day and by night. */

const sequence = {
  light: ["#1d6a86", "#b4541c", "#3b7d4f", "#84489b", "#8a6d00", "#55636f"],
  dark: ["#6bb8d6", "#e8935a", "#7dc08f", "#c48fdc", "#d3b343", "#a9b6c2"],
} as const;

export interface Theme {
  name: "light" | "dark";
  /** The ground of the page. */
  paper: string;
  /** The ground of panels and fields. */
  sheet: string;
  /** Text. */
  ink: string;
  /** Text that stands back. */
  faint: string;
  /** Lines between things. */
  rule: string;
  /** The accent. */
  water: string;
  /** The accent as a ground. */
  shallow: string;
  /** Text on the accent. */
  foam: string;
  /** Attention. */
  brass: string;
  /** Failure. */
  brick: string;
  /** Every second pane of a chart. */
  pane: string;
  /** Lines of a chart, in order. */
  lines: readonly string[];
}

export const light: Theme = {
  name: "light",
  paper: "#faf7f1",
  sheet: "#fffefb",
  ink: "#1b2733",
  faint: "#55626e",
  rule: "#d9d4c8",
  water: "#2c6e62",
  shallow: "#e2eeea",
  foam: "#ffffff",
  brass: "#805800",
  brick: "#a1351f",
  pane: "#f3efe5",
  lines: sequence.light,
};

export const dark: Theme = {
  name: "dark",
  paper: "#131b23",
  sheet: "#1a242e",
  ink: "#ece8df",
  faint: "#a8b3bd",
  rule: "#34424f",
  water: "#7cc4b4",
  shallow: "#20363a",
  foam: "#10201d",
  brass: "#e0b45c",
  brick: "#f09480",
  pane: "#1f2b36",
  lines: sequence.dark,
};

declare module "styled-components" {
  // oxlint-disable-next-line typescript/no-empty-object-type -- how styled-components learns the type of the theme
  export interface DefaultTheme extends Theme {}
}
