import { useState } from "react";

type Theme = "dark" | "light";
const kept = "kettle-tarn-theme";

function initial(): Theme {
  const v = localStorage.getItem(kept);
  if (v === "dark" || v === "light") return v;
  return matchMedia("(prefers-color-scheme: light)").matches ? "light" : "dark";
}

function apply(theme: Theme) {
  document.documentElement.dataset["theme"] = theme;
}

apply(initial());

/** useTheme is the theme, and how to change it; it is kept in this browser. */
export function useTheme(): [Theme, () => void] {
  const [theme, setTheme] = useState(initial);
  return [
    theme,
    () => {
      const next = theme === "dark" ? "light" : "dark";
      localStorage.setItem(kept, next);
      apply(next);
      setTheme(next);
    },
  ];
}

/** tokens are colours for what is not drawn by style sheets. */
export const tokens = () => {
  const style = getComputedStyle(document.documentElement);
  return { ice: style.getPropertyValue("--ice").trim(), copper: style.getPropertyValue("--copper").trim() };
};
