import type { ReactNode } from "react";

/** Text as it came, which scrolls; also by keyboard. */
export function Raw({ children }: { children: ReactNode }) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls can be scrolled by keyboard
    <pre className="raw" tabIndex={0}>
      {children}
    </pre>
  );
}
