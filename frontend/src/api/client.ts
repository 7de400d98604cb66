import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type AppSummary = Schemas["AppSummary"];
export type JobView = Schemas["JobView"];
export type JourneySummary = Schemas["JourneySummary"];
export type Journey = Schemas["Journey"];
export type Step = Schemas["StepView"];
export type StepDetail = Schemas["StepDetail"];
export type Mapping = Schemas["MappingBody"];
export type MappingPreview = Schemas["MappingPreview"];
export type FieldName = MappingPreview["missing"][number];
export type Health = Schemas["HealthView"];
export type MapView = Schemas["MapView"];
export type SignIn = Schemas["SignIn"];
export type FunnelFigures = Schemas["FunnelFigures"];
export type StartFigures = Schemas["StartFigures"];
export type TabFigures = Schemas["TabFigures"];
export type PathFigures = Schemas["PathFigures"];
export type PatternFigures = Schemas["PatternFigures"];
export type LoopFigures = Schemas["LoopFigures"];
export type LinkFigures = Schemas["LinkFigures"];
export type DropOffFigures = Schemas["DropOffFigures"];
export type Count = Schemas["Count"];
export type Vocabulary = Schemas["Vocabulary"];
/** Words that the server knows: each has its own on the page. */
export type Exit = Journey["exit"];
export type Mark = Journey["marks"][number];
export type Move = Step["move"];
export type LoopKind = LoopFigures["loops"][number]["kind"];
export type GateCause = Schemas["GateFigures"]["causes"][number]["cause"];
export type Loss = SignIn["losses"][number]["way"];
export type Unit = "sessions" | "users";

/** Which journeys every view is asked about: days in UTC, both included, and what is counted. */
export interface Scope {
  since?: string;
  until?: string;
  unit: Unit;
  /** A segment, as its JSON. */
  segment?: string;
  /** Only journeys whose clock cannot be right, whatever their dates. */
  odd_clocks?: true;
  /** Only this value of a property: of the group whose figure is open. */
  part?: string;
  part_by?: string;
  part_over?: "day" | "week";
}

export const api = createClient<paths>();

/** What the server says went wrong, and what to do about it. */
export class Problem extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly detail: string,
    /** Where a report is that can be sent on, if the tool is at fault. */
    readonly report?: string,
  ) {
    super(message);
  }
}

export type Answer<Data> = { data?: Data; error?: unknown; response: Response };

/** The data of an answer; throws a `Problem` when there is none. */
export async function dataOf<Data>(asked: Promise<Answer<Data>>): Promise<Data> {
  let answer: Answer<Data>;
  try {
    answer = await asked;
  } catch {
    throw new Problem(
      "The server does not answer.",
      503,
      "Is it still running? It is asked again.",
    );
  }
  if (answer.error !== undefined) {
    throw problemOf(answer.error, answer.response.status);
  }
  return answer.data as Data;
}

/** The last of an answer's lines of JSON; each is told as it comes. */
export async function lastLine<Line>(
  asked: Promise<Answer<ReadableStream<Uint8Array> | null>>,
  tell: (line: Line) => void,
): Promise<Line | undefined> {
  const reader = (await dataOf(asked))?.getReader();
  const decoder = new TextDecoder();
  let [text, last] = ["", undefined as Line | undefined];
  for (;;) {
    const more = await reader?.read();
    if (!more || more.done) {
      break;
    }
    const lines = (text + decoder.decode(more.value, { stream: true })).split("\n");
    text = lines.pop() ?? "";
    for (const line of lines) {
      last = JSON.parse(line) as Line;
      tell(last);
    }
  }
  return last;
}

export function problemOf(body: unknown, status: number): Problem {
  const { title, detail, instance } = (body ?? {}) as Partial<Schemas["Problem"]>;
  const said = title ?? "The server gave no answer that can be read.";
  return new Problem(said, status, detail ?? "", instance ?? undefined);
}
