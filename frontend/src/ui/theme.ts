import { useEffect, useState } from "react";

type Theme = "light" | "dark";
const KEY = "kind-echo.theme";

function first(): Theme {
  const kept = localStorage.getItem(KEY);
  if (kept === "light" || kept === "dark") return kept;
  return matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
}

/** The theme, by the system until one is chosen. */
export function useTheme(): [Theme, () => void] {
  const [theme, setTheme] = useState(first);
  useEffect(() => {
    document.documentElement.dataset.theme = theme;
  }, [theme]);
  const turn = () => {
    const next = theme === "dark" ? "light" : "dark";
    localStorage.setItem(KEY, next);
    setTheme(next);
  };
  return [theme, turn];
}
