import type { RefObject } from "react";
import type { Value } from "./columns";

interface Props {
  /** What the files are called, before their ending. */
  name: string;
  /** Where the chart is. */
  chart: RefObject<HTMLElement | null>;
  /** The table of the same figures, with its head. */
  rows: () => Value[][];
}

/** The chart as a picture, and its figures as a table. */
export function TakeAway({ name, chart, rows }: Props) {
  const svg = () => chart.current?.querySelector("svg") ?? null;
  return (
    <span className="small-text d-inline-flex gap-3 take-away">
      <Csv name={name} rows={rows} />
      <button
        type="button"
        className="figure-button"
        onClick={() => {
          const drawn = svg();
          if (drawn) {
            save(`${name}.svg`, "image/svg+xml", standing(drawn));
          }
        }}
      >
        SVG
      </button>
      <button
        type="button"
        className="figure-button"
        onClick={() => {
          const drawn = svg();
          if (drawn) {
            picture(drawn).then((png) => png && save(`${name}.png`, "image/png", png));
          }
        }}
      >
        PNG
      </button>
    </span>
  );
}

export function Csv({ name, rows }: Pick<Props, "name" | "rows">) {
  return (
    <button
      type="button"
      className="figure-button"
      onClick={() => save(`${name}.csv`, "text/csv", csv(rows()))}
    >
      CSV
    </button>
  );
}

function save(name: string, type: string, content: string | Blob) {
  const address = URL.createObjectURL(new Blob([content], { type }));
  const link = document.createElement("a");
  link.href = address;
  link.download = name;
  link.click();
  URL.revokeObjectURL(address);
}

/** A text that begins like a formula is one to some programs: a quote before it keeps it text. */
export function csv(rows: Value[][]): string {
  const cell = (value: Value) => {
    const text = String(value ?? "");
    const safe = typeof value === "string" && /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
    return /[",\n\r]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
  };
  return `${rows.map((row) => row.map(cell).join(",")).join("\r\n")}\r\n`;
}

const LOOKS = [
  ...[
    "fill",
    "stroke",
    "stroke-width",
    "stroke-dasharray",
    "opacity",
    "fill-opacity",
    "font-size",
    "font-weight",
  ],
  ...["font-family", "text-anchor"],
];

/** The drawing with its looks written into it, so that it stands without the page. */
function standing(drawn: SVGSVGElement): string {
  const copy = drawn.cloneNode(true) as SVGSVGElement;
  const own = [drawn, ...drawn.querySelectorAll("*")];
  for (const [i, element] of [copy, ...copy.querySelectorAll("*")].entries()) {
    const looks = getComputedStyle(own[i] as Element);
    const written = LOOKS.map((look) => `${look}:${looks.getPropertyValue(look)}`).join(";");
    element.setAttribute("style", written);
  }
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  return new XMLSerializer().serializeToString(copy);
}

async function picture(drawn: SVGSVGElement): Promise<Blob | null> {
  const image = new Image();
  const address = URL.createObjectURL(new Blob([standing(drawn)], { type: "image/svg+xml" }));
  image.src = address;
  await image.decode();
  URL.revokeObjectURL(address);
  const canvas = document.createElement("canvas");
  const { width, height } = drawn.getBoundingClientRect();
  canvas.width = width * 2;
  canvas.height = height * 2;
  const drawing = canvas.getContext("2d");
  if (drawing) {
    drawing.fillStyle = getComputedStyle(document.body).backgroundColor;
    drawing.fillRect(0, 0, canvas.width, canvas.height);
    drawing.drawImage(image, 0, 0, canvas.width, canvas.height);
  }
  return new Promise((done) => canvas.toBlob(done, "image/png"));
}
