import { expect, test } from "vitest";
import type { Journey, Step } from "../src/api/client";
import { story } from "../src/views/journeys/story";

/** A journey over these screens; what a step or the journey has beside, where it matters. */
function journey(steps: Partial<Step>[], more: Partial<Journey> = {}): Journey {
  const trail = steps.map((step, i) => ({
    ...{ step: i + 1, screen: "A", tab: null, move: "push", depth: 1, marks: [] as Step["marks"] },
    ...{ link: null, source: null, wanted: null },
    ...step,
  }));
  return { user: "ann", start_kind: "cold", exit: "closed", ...more, trail } as Journey;
}

test("a plain journey", () => {
  const steps: Partial<Step>[] = [
    { screen: "Splash" },
    { screen: "Board", tab: "Sailings" },
    { screen: "Wallet", tab: "Passes" },
  ];
  expect(story(journey(steps))).toBe(
    "ann started the app, walked through Sailings and Passes, and closed the app on Wallet.",
  );
});

test("a link that a gate stopped names what was wanted", () => {
  const gate: Partial<Step> = {
    screen: "SignIn",
    move: "redirect",
    wanted: "Wallet",
    link: "x://",
    source: "web",
  };
  expect(story(journey([{ screen: "Splash" }, gate], { exit: "backgrounded" }))).toBe(
    "ann started the app by a link from web to Wallet, was sent to SignIn when opening Wallet, " +
      "and put the app away on SignIn.",
  );
});

test("what stood out is told, and how deep it ended", () => {
  const steps: Partial<Step>[] = [
    { screen: "Board" },
    { screen: "Receipt", marks: ["piled_up"] },
    { screen: "Board", marks: ["ping_pong"], depth: 4 },
  ];
  expect(story(journey(steps, { start_kind: "warm", exit: "silent" }))).toBe(
    "ann came back to the app on Board, got a second Receipt piled on the first, " +
      "went back and forth with Board, and fell silent on Board, 4 deep.",
  );
});

test("a journey that the log cuts off, and one without steps", () => {
  expect(story(journey([{ screen: "Board" }], { exit: "cut" }))).toBe(
    "ann started the app on Board, and was on Board when the log ended.",
  );
  expect(story(journey([]))).toBe("ann saw no screen.");
});

test("long names do not swallow the sentence", () => {
  const told = story(journey([{ screen: "y".repeat(300) }], { user: "x".repeat(300) }));
  expect(told.length).toBeLessThan(250);
});
