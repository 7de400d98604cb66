import type { Exit } from "./api/client";

/** Numbers, times and shares as people say them. */

const whole = new Intl.NumberFormat("en-GB");
const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", timeZone: "UTC" });
const dayYear = new Intl.DateTimeFormat("en-GB", {
  day: "numeric",
  month: "short",
  year: "numeric",
  timeZone: "UTC",
});
const clock = new Intl.DateTimeFormat("en-GB", {
  hour: "2-digit",
  minute: "2-digit",
  timeZone: "UTC",
});

export function count(n: number, one?: string, many?: string): string {
  if (!one) {
    return whole.format(n);
  }
  return `${whole.format(n)} ${n === 1 ? one : (many ?? `${one}s`)}`;
}

export function percent(share: number): string {
  if (share > 0 && share < 0.0005) {
    return "< 0.1 %";
  }
  if (share < 1 && share >= 0.9995) {
    return "> 99.9 %";
  }
  const shown = (share * 100).toFixed(1);
  return `${shown.endsWith(".0") ? shown.slice(0, -2) : shown} %`;
}

export function duration(milliseconds: number): string {
  const seconds = milliseconds / 1000;
  if (milliseconds < 1000) {
    return `${Math.round(milliseconds)} ms`;
  }
  if (seconds < 9.95) {
    return `${seconds.toFixed(1)} s`;
  }
  if (seconds < 99.5) {
    return `${Math.round(seconds)} s`;
  }
  if (seconds < 99.5 * 60) {
    return `${Math.round(seconds / 60)} min`;
  }
  if (seconds < 48 * 3600) {
    return `${Math.round(seconds / 3600)} h`;
  }
  return `${Math.round(seconds / 86_400)} days`;
}

export function bytes(n: number): string {
  if (n < 1000) {
    return count(n, "byte");
  }
  const units = ["kB", "MB", "GB", "TB"];
  // What would be rounded to a thousand of a unit is one of the next.
  const power = Math.min(Math.floor(Math.log10(n * 1.0005) / 3), units.length);
  const value = n / 1000 ** power;
  return `${value < 10 ? value.toFixed(1) : Math.round(value)} ${units[power - 1]}`;
}

/** With its year where a clock cannot be right. */
export function date(milliseconds: number): string {
  const year = new Date(milliseconds).getUTCFullYear();
  const odd = year < 2000 || year > new Date().getUTCFullYear() + 1;
  return (odd ? dayYear : day).format(milliseconds);
}

export function dateWithYear(milliseconds: number): string {
  return dayYear.format(milliseconds);
}

export function time(milliseconds: number): string {
  return clock.format(milliseconds);
}

/** With milliseconds, as logs have it. */
export function exactTime(milliseconds: number): string {
  return new Date(milliseconds).toISOString().slice(11, 23);
}

export function isoDay(milliseconds: number): string {
  return new Date(milliseconds).toISOString().slice(0, 10);
}

export function days(first: number, last: number): string {
  if (isoDay(first) === isoDay(last)) {
    return dateWithYear(first);
  }
  const sameYear = isoDay(first).slice(0, 4) === isoDay(last).slice(0, 4);
  return `${sameYear ? date(first) : dateWithYear(first)} – ${dateWithYear(last)}`;
}

/** A name among other words: written from right to left, it does not turn them round. */
export function isolated(name: string): string {
  return /[\u0590-\u08ff\ufb1d-\ufdff\ufe70-\ufefc]/.test(name) ? `\u2068${name}\u2069` : name;
}

/** The start of a name that is too long to stand in full. */
export function short(text: string, most: number): string {
  const letters = Array.from(text);
  return letters.length > most ? `${letters.slice(0, most - 1).join("")}…` : text;
}

/** A name with the blanks at its ends to be seen: they make it another name. */
export function shownName(name: string): string {
  return name.replace(/^\s+|\s+$/g, (blanks) => "␣".repeat(blanks.length)) || "␣";
}

/** What a log of these files is called. */
export function called(files: string[]): string {
  const [first = "", ...others] = files;
  return others.length ? `${first} and ${count(others.length, "other file")}` : first;
}

/** `{"sailing": "41"}` as `sailing 41`. */
export function params(json: string | null): string {
  if (!json) {
    return "";
  }
  try {
    const found: unknown = JSON.parse(json);
    if (found && typeof found === "object" && !Array.isArray(found)) {
      return Object.entries(found)
        .map(
          ([key, value]) => `${key} ${typeof value === "string" ? value : JSON.stringify(value)}`,
        )
        .join(", ");
    }
  } catch {
    // Not JSON: shown as it came.
  }
  return json;
}

export const EXIT_WORDS: Record<string, string> = {
  closed: "closed the app",
  backgrounded: "put the app away",
  signed_out: "signed out",
  silent: "fell silent",
  cut: "the log ends here",
} satisfies Record<Exit, string>;

export function words(key: string): string {
  return key.replaceAll("_", " ");
}

/** A difference of shares, with its sign. */
export function signed(share: number): string {
  const said = percent(Math.abs(share));
  if (said.startsWith("<")) {
    return "0 %";
  }
  return `${share < 0 ? "−" : "+"}${said.startsWith(">") ? "100 %" : said}`;
}

/** A difference of times, with its sign. */
export function signedTime(milliseconds: number): string {
  return `${milliseconds < 0 ? "−" : "+"}${duration(Math.abs(milliseconds))}`;
}
