/** Draws, and again whenever the size of an element or the theme changes; what it gives ends that. */
export function keepDrawn(element: Element, draw: () => void, again: () => void = draw): () => void {
  draw();
  const size = new ResizeObserver(again);
  size.observe(element);
  const theme = new MutationObserver(again);
  theme.observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
  return () => {
    size.disconnect();
    theme.disconnect();
  };
}
