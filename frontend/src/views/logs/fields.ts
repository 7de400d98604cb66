import type { FieldName } from "../../api/client";

export const FIELD_MEANINGS: Record<FieldName, string> = {
  time: "when it happened",
  user: "the person or install",
  account: "who was signed in there, if a row tells",
  session: "the session's id",
  order: "a number that breaks ties of time",
  event: "what happened",
  screen: "the screen shown or moved to",
  from: "the screen left",
  tab: "the tab that the app reports as selected",
  uri: "a link or route",
  source: "where a link came from",
  outcome: "how a sign-in or a prompt came out",
  params: "the screen's parameters, as JSON",
  count: "how many screens a move back took off",
  via: "how a redirect landed",
};

export const WITH_OUTCOME = ["sign_in", "sign_up"];

export const OUTCOME_MEANINGS: Record<string, string> = {
  ok: "it went well",
  failed: "it failed",
  attempt: "it was tried",
  stayed: "stayed, when asked whether to leave",
  left: "left, when asked whether to leave",
};

export const EVENT_MEANINGS: Record<string, string> = {
  screen_view: "a screen was shown",
  push: "went in",
  pop: "went back",
  pop_to: "went back several",
  replace: "took the place of the screen before",
  reset: "was put afresh on a screen",
  switch_tab: "chose a tab",
  open_modal: "a sheet was opened",
  close_modal: "a sheet was closed",
  update: "same screen, other params",
  forward: "went forward again",
  navigate: "went to a screen, in whatever way",
  traverse: "went back or forward",
  redirect: "was sent elsewhere",
  blocked: "a move was refused",
  open_link: "a link was opened",
  leave_prompt: "was asked whether to leave",
  app_start: "the app was started",
  app_background: "the app was put away",
  app_foreground: "the app was taken up again",
  app_recreate: "the screen was rebuilt",
  app_exit: "the app was closed",
  sign_in: "sign-in",
  sign_up: "sign-up",
  sign_out: "sign-out",
  session_restored: "was still signed in",
};
