// What a walk leaves behind: the rows that its app would log in each dialect, and the truth.
import { mkdirSync, writeFileSync } from "node:fs";

/** Numbers from a seed (mulberry32): the same walk on every run. */
export function dice(seed) {
  let state = seed >>> 0;
  const next = () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let t = Math.imul(state ^ (state >>> 15), 1 | state);
    t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t;
    return ((t ^ (t >>> 14)) >>> 0) / 2 ** 32;
  };
  return {
    chance: (share) => next() < share,
    below: (n) => Math.floor(next() * n),
    of: (list) => list[Math.floor(next() * list.length)],
    /** One of these by their weights; those of weight 0 never. */
    weighed(weights) {
      const all = Object.entries(weights).filter(([, weight]) => weight > 0);
      let left = next() * all.reduce((sum, [, weight]) => sum + weight, 0);
      return all.find(([, weight]) => (left -= weight) < 0)?.[0] ?? all.at(-1)[0];
    },
  };
}

/** Which kinds of rows each dialect has, and the word by which it names a move. */
const DIALECTS = {
  "moves-and-views": { kinds: ["life", "link", "move", "view"], word: "event" },
  answered: { kinds: ["life", "link", "answer", "move", "view"], word: "event" },
  moves: { kinds: ["life", "link", "answer", "move"], word: "event", starts: true },
  words: { kinds: ["life", "link", "answer", "move", "view"], word: "word" },
  views: { kinds: ["life", "link", "view"], word: "event" },
};

/** Whether a row right before a view belongs to the step that the view shows. */
function leads({ kind, shows }) {
  return ["move", "answer", "link"].includes(kind) || (kind === "life" && Boolean(shows));
}

export class Recorder {
  clock = 1_777_888_800_000;
  rows = [];
  truth = [];
  steps = 0;
  sessions = 0;

  begin(user) {
    this.user = user;
    this.sessions += 1;
    this.session = `${user}.${this.sessions}`;
    this.steps = 0;
    this.clock += 3_600_000;
  }

  row(kind, event, values = {}) {
    this.clock += kind === "view" ? 180 : event === "redirect" ? 20 : 3000;
    const { clock: time, user, session } = this;
    this.rows.push({ kind, time, user, session, event, ...values });
  }

  life(event, seen = null) {
    this.row("life", event, seen ? { shows: this.named(seen) } : {});
  }

  named({ top, tab }) {
    return { screen: top.screen, params: top.params, tab };
  }

  view(seen) {
    this.row("view", "screen_view", this.named(seen));
  }

  move(kind, event, word, seen, values = {}) {
    this.row(kind, event, { word, ...this.named(seen), ...values });
  }

  /** The step that the view before has shown. */
  step(move, { top, tab, region, stack }, below) {
    this.steps += 1;
    // The rows that led here say so, in a property that means nothing to the replay.
    const of = `${this.session}/${this.steps}`;
    this.rows.at(-1).of = of;
    for (let i = this.rows.length - 2; i >= 0 && leads(this.rows[i]); i -= 1) this.rows[i].of = of;
    this.truth.push({
      of,
      user: this.user,
      session: this.session,
      step: this.steps,
      screen: top.screen,
      params: top.params,
      move,
      tab,
      region,
      depth: stack.length,
      below: below?.screen ?? null,
      below_params: below?.params ?? null,
    });
  }

  write(folder, map) {
    mkdirSync(folder, { recursive: true });
    const lines = (list) => list.map((one) => JSON.stringify(one) + "\n").join("");
    writeFileSync(`${folder}/map.json`, JSON.stringify(map, null, 1));
    writeFileSync(`${folder}/truth.jsonl`, lines(this.truth));
    for (const [name, dialect] of Object.entries(DIALECTS)) {
      const rows = this.rows.filter(({ kind }) => dialect.kinds.includes(kind));
      writeFileSync(`${folder}/${name}.jsonl`, lines(rows.map((row) => told(row, dialect))));
    }
  }
}

function told({ kind, event, word, shows, ...row }, dialect) {
  const named = dialect.word === "word" && word ? word : event;
  const first = dialect.starts ? shows : {};
  const all = { ...row, event: named, ...first };
  return Object.fromEntries(Object.entries(all).filter(([, v]) => v !== null && v !== undefined));
}
