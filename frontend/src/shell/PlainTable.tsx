import type { ReactNode } from "react";

interface Props {
  className?: string;
  testid?: string;
  children: ReactNode;
}

/** A table as all of them look; where it is wider than the view, it scrolls by itself. */
export function PlainTable({ className = "", testid, children }: Props) {
  return (
    <div className="scrolls">
      <table className={`table table-sm plain ${className}`} data-testid={testid}>
        {children}
      </table>
    </div>
  );
}
