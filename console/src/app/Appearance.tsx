import { createContext, useContext, useEffect, useMemo, useState, type ReactNode } from "react";
import { createGlobalStyle, ThemeProvider } from "styled-components";

import { dark, light } from "../frame/theme";

const Everywhere = createGlobalStyle`
  *, *::before, *::after { box-sizing: border-box; }
  html { color-scheme: ${({ theme }) => theme.name}; }
  body {
    margin: 0;
    background: ${({ theme }) => theme.paper};
    color: ${({ theme }) => theme.ink};
    font: 14px/20px system-ui, "DejaVu Sans", sans-serif;
    font-variant-numeric: tabular-nums;
  }
  h1, h2, h3, p { margin: 0; }
  code, pre { font-family: ui-monospace, "DejaVu Sans Mono", monospace; font-size: 13px; }
  a { color: ${({ theme }) => theme.water}; }
  :focus-visible { outline: 2px solid ${({ theme }) => theme.water}; outline-offset: 2px; }
`;

type Name = "light" | "dark";
const Switch = createContext<{ name: Name; toggle: () => void }>({ name: "light", toggle: () => {} });
const KEPT = "fenetre-appearance";

export const useAppearance = () => useContext(Switch);

function initial(): Name {
  const kept = localStorage.getItem(KEPT);
  if (kept === "light" || kept === "dark") return kept;
  return matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
}

export function AppearanceProvider({ children }: { children: ReactNode }) {
  const [name, setName] = useState(initial);
  useEffect(() => localStorage.setItem(KEPT, name), [name]);
  const value = useMemo(() => ({ name, toggle: () => setName(name === "light" ? "dark" : "light") }), [name]);
  return (
    <Switch.Provider value={value}>
      <ThemeProvider theme={name === "light" ? light : dark}>
        <Everywhere />
        {children}
      </ThemeProvider>
    </Switch.Provider>
  );
}
