import { useLayoutEffect, useRef, useState } from "react";

/** The width of an element, kept up to date. */
export function useWidth<Element extends HTMLElement>(start: number) {
  const box = useRef<Element>(null);
  const [width, setWidth] = useState(start);
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) {
      return;
    }
    const watch = new ResizeObserver(() => setWidth(element.clientWidth || start));
    watch.observe(element);
    setWidth(element.clientWidth || start);
    return () => watch.disconnect();
  }, [start]);
  return [box, width] as const;
}
