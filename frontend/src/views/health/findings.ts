interface Words {
  /** After a number of rows: "1 row …", "12 rows …". */
  what: string;
  /** What it does to the figures. */
  effect: string;
}

export const FINDINGS = {
  lost_before: {
    what: "said to come from another screen than the one before",
    effect: "Rows were lost there. The replay goes on from the screen that is told.",
  },
  clock_back: {
    what: "of a clock that was set back by ten minutes or more",
    effect: "They stand at the time that they tell, so a journey may have steps in a wrong order.",
  },
  clock_ahead: {
    what: "in the future",
    effect: "Their journeys are in no range of days: “with odd clocks” in the bar has them.",
  },
  clock_unset: {
    what: "from before 2000, of a clock that was never set",
    effect: "Their journeys are in no range of days: “with odd clocks” in the bar has them.",
  },
  unknown_screen: {
    what: "of screens that the map does not name",
    effect: "Each such name is taken as a screen of its own, in no tab.",
  },
  landed_elsewhere: {
    what: "whose move does not fit the stack",
    effect: "The screen is believed, the move is not; the stack goes on from there.",
  },
  out_of_order: {
    what: "that came after later rows of the same user",
    effect: "They are put where they belong by their time. No figure suffers.",
  },
  doubled: {
    what: "of views doubled at once, or after the screen was rebuilt",
    effect: "They are merged: no visit is counted twice.",
  },
  resent: {
    what: "sent again, the same in every column",
    effect: "They are merged: no step is counted twice.",
  },
  repeated: {
    what: "that showed the visible screen once more",
    effect: "They are merged, and counted as repeats of their step.",
  },
  inferred: {
    what: "of views whose move was worked out, as the log reports none",
    effect: "Their steps are hollow in a journey's profile.",
  },
  no_session: {
    what: "without a session",
    effect: "There a session ends when the user rests for 30 minutes.",
  },
  folded_name: {
    what: "whose screen differs from the map's name in case, spaces or dashes alone",
    effect: "They are read as that screen. “names: exact” in the map tells them apart.",
  },
  unknown_event: {
    what: "of an event that is no word of ours",
    effect: "They make no step. They are kept as marks on the step that was visible.",
  },
} satisfies Record<string, Words>;

/** What makes figures wrong, or missing, all over a log: said before all else. */
export const LOUD = {
  no_steps: {
    what: "No row makes a step",
    mend: "No word is read as a view or a move. Say what the words mean: read the file anew.",
    rows: "of a log in which no row makes a step",
  },
  midnight: {
    what: "Nearly all rows stand at midnight",
    mend: "The time of day is missing, perhaps in a column of its own: read the file anew.",
    rows: "that stand at midnight",
  },
  one_moment: {
    what: "Nearly all rows bear the same moment",
    mend: "This is when they were stored, not when they happened. Choose another time column.",
    rows: "of a log that bears but few moments",
  },
  one_row_each: {
    what: "Nearly every user has but one row",
    mend: "The column of users names rows, not people. Choose another one: read the file anew.",
    rows: "of users who have no other",
  },
  screen_per_row: {
    what: "Nearly every view has a screen of its own",
    mend: "Ids stand in the names. Give routes a pattern with a hole: read the file anew.",
    rows: "of views, nearly each with a screen of its own",
  },
  words_unread: {
    what: "Many rows have words that mean nothing known",
    mend: "They make no step. Say what they mean: read the file anew.",
    rows: "with a word that means nothing known",
  },
  outcomes_untold: {
    what: "No row says how a sign-in came out",
    mend: "Who got in, the log does not tell; say which words mean it, if some do.",
    rows: "of signing in or up that do not say how it came out",
  },
} satisfies Record<string, { what: string; mend: string; rows: string }>;
export const LOUD_ORDER = Object.keys(LOUD) as (keyof typeof LOUD)[];

type Finding = keyof typeof FINDINGS;
export const ORDER = Object.keys(FINDINGS) as Finding[];
/** Findings whose rows can be listed. */
export type Openable = Finding | keyof typeof LOUD;
export const OPENABLE: Openable[] = [...LOUD_ORDER, ...ORDER];

/** After a number of rows: "rows that …". */
export function aboutRows(finding: Openable): string {
  return finding in LOUD
    ? LOUD[finding as keyof typeof LOUD].rows
    : FINDINGS[finding as Finding].what;
}
/** Findings that an analyst would want to hear of first. */
export const GRAVE: Finding[] = ORDER.slice(0, 6);
