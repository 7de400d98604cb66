import type { Journey, Step } from "../../api/client";
import { count, EXIT_WORDS, short } from "../../format";

const LONGEST_NAME = 60;

/** A journey told in one sentence: how it began, what stood out, and how it ended. */
export function story(journey: Journey): string {
  const parts = [beginning(journey), ...middle(journey.trail), ending(journey)];
  const told = parts.filter(Boolean);
  const last = told.pop();
  return `${short(journey.user, LONGEST_NAME)} ${told.join(", ")}${told.length ? ", and " : ""}${last}.`;
}

function beginning(journey: Journey): string {
  const [first] = journey.trail;
  if (!first) {
    return "";
  }
  const kind = journey.start_kind === "cold" ? "started the app" : "came back to the app";
  const linked = journey.trail.find((step) => step.link);
  if (linked && linked.step <= 2) {
    const from = linked.source ? ` from ${linked.source}` : "";
    return `${kind} by a link${from} to ${name(linked.wanted ?? linked.screen)}`;
  }
  return first.screen.toLowerCase().includes("splash") ? kind : `${kind} on ${name(first.screen)}`;
}

function middle(trail: Step[]): string[] {
  const told: string[] = [];
  const gate = trail.find((step) => step.move === "redirect");
  if (gate) {
    const wanted = gate.wanted ? ` when opening ${name(gate.wanted)}` : "";
    told.push(`was sent to ${name(gate.screen)}${wanted}`);
  }
  const tabs = [...new Set(trail.map((step) => step.tab).filter((tab) => tab !== null))];
  if (tabs.length) {
    told.push(`walked through ${list(tabs.map((tab) => name(tab)))}`);
  }
  const piled = trail.find((step) => step.marks.includes("piled_up"));
  if (piled) {
    told.push(`got a second ${name(piled.screen)} piled on the first`);
  }
  const turns = trail.filter((step) => step.marks.includes("ping_pong"));
  if (turns[0]) {
    told.push(`went back and forth with ${name(turns[0].screen)}`);
  }
  return told.slice(0, 4);
}

function ending(journey: Journey): string {
  const last = journey.trail.at(-1);
  const how = EXIT_WORDS[journey.exit] ?? journey.exit;
  if (!last) {
    return "saw no screen";
  }
  const where = `on ${name(last.screen)}`;
  const depth = last.depth > 2 ? `, ${count(last.depth)} deep` : "";
  return journey.exit === "cut" ? `was ${where} when the log ended` : `${how} ${where}${depth}`;
}

function name(screen: string): string {
  return short(screen, LONGEST_NAME);
}

function list(words: string[]): string {
  const last = words.at(-1) ?? "";
  return words.length > 1 ? `${words.slice(0, -1).join(", ")} and ${last}` : last;
}
