import { short } from "../../format";

interface Document {
  pattern: string;
  cell: string[];
}

export function readFigure(figure: string | null): Document | null {
  try {
    const found = JSON.parse(figure ?? "") as Document;
    return typeof found.pattern === "string" && Array.isArray(found.cell) ? found : null;
  } catch {
    return null;
  }
}

export function patternWords(figure: string): string {
  const found = readFigure(figure);
  if (!found) {
    return "";
  }
  const [kind = "", one = ""] = found.cell;
  const pattern = short(found.pattern, 80);
  const said: Record<string, string> = {
    match: `with ${pattern}`,
    next: one
      ? `with ${pattern}, and ${short(one, 40)} right after it`
      : `that end with ${pattern}`,
    reached: `that came to condition ${Number(one) + 1} of ${pattern}`,
    broke:
      one === "-1"
        ? `without any of ${pattern}`
        : `that came to condition ${Number(one) + 1} of ${pattern}, and no further`,
  };
  return said[kind] ?? kind;
}
