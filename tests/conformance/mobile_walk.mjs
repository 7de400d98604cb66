// A walker in the phone app: it does what people do, asks the library where that led, and records.
import {
  CommonActions,
  DrawerActions,
  LINKS,
  MENU,
  MobileApp,
  SHEETS,
  StackActions,
  TABS,
  TabActions,
  leafKeys,
  settled,
  under,
} from "./mobile.mjs";
import { Recorder, dice } from "./recorder.mjs";

const PLAIN = {
  back: "none",
  root_back: "exit",
  tabs: "keep",
  reselect: "stay",
  links: "parents",
  across: "there",
  restart: "fresh",
};
/** The apps, by how their authors set up the library. */
export const APPS = {
  plain: { ...PLAIN, splash: true },
  drawer: {
    ...PLAIN,
    back: "firstRoute",
    root_back: "first_tab",
    links: "alone",
    drawer: true,
    account: true,
  },
  ordered: { ...PLAIN, back: "order", root_back: "bar_order", links: "mixed", reselect: "to_root" },
  restored: { ...PLAIN, back: "history", root_back: "previous_tab", restart: "restore" },
  afresh: { ...PLAIN, tabs: "reset", splash: true },
  here: { ...PLAIN, across: "here", back: "history", root_back: "previous_tab" },
};
const WITH_NUMBER = [
  ...["SailingDetail", "SeatPick", "PassDetail", "Receipt", "PierDetail", "HelpTopic"],
  ...["Timetable", "Refund"],
];
/** Where each screen is meant to lead; now and then people come by another way. */
const WAYS = {
  SailingsBoard: ["SailingDetail"],
  SailingDetail: ["SeatPick", "DelayInfo"],
  DelayInfo: ["SailingDetail"],
  PassWallet: ["PassDetail", "BuyPass"],
  PassDetail: ["HelpTopic"],
  BuyPass: ["HelpTopic"],
  HarbourMap: ["PierDetail"],
  PierDetail: ["ParkingInfo", "Timetable"],
  Timetable: ["PierDetail"],
  MeHome: ["TripHistory", "Settings"],
  TripHistory: ["Refund"],
  Settings: ["HelpTopic"],
};
const IN_PLACE = { BuyPass: "Receipt", SeatPick: "DelayInfo", Timetable: "ParkingInfo" };
const BACK = ["GO_BACK", "POP", "POP_TO_TOP"];

function moveOf(before, after, word, count) {
  const [was, is] = [before.top, after.top];
  if (word === "RESET") return "reset";
  if (word === "REPLACE") return "replace";
  if (was.key === is.key) {
    return JSON.stringify(was.params) === JSON.stringify(is.params) ? null : "update";
  }
  if (BACK.includes(word)) {
    if (SHEETS.includes(was.screen) || was.screen === MENU) return "close_modal";
    return word === "POP_TO_TOP" || count > 1 ? "pop_to" : "pop";
  }
  if (SHEETS.includes(is.screen) || is.screen === MENU) return "open_modal";
  if (word === "JUMP_TO") return "switch_tab";
  if (!before.known.has(is.key)) return "push";
  return before.tab === after.tab ? "pop_to" : "switch_tab";
}

class Walk {
  constructor(rules, seed) {
    this.rules = rules;
    this.app = new MobileApp(rules);
    this.dice = dice(seed);
    this.log = new Recorder();
    this.numbers = 0;
    this.kept = undefined;
  }

  see() {
    return { ...this.app.see(), known: leafKeys(this.app.state) };
  }

  place(screen) {
    this.numbers += 1;
    return WITH_NUMBER.includes(screen) ? { n: String(this.numbers) } : undefined;
  }

  /** The action that goes to a screen of a tab, whichever navigators lie around it. */
  within(tab, screen, params) {
    const inTab = { screen: tab, params: { screen, params, initial: false } };
    const main = this.rules.drawer ? { screen: "Home", params: inTab } : inTab;
    return CommonActions.navigate("Main", main, { pop: true });
  }

  /** Do something, and record where it led if that is another place. */
  did(word, action, { menu = false, ...values } = {}) {
    const before = this.see();
    if (menu) this.app.dispatch(DrawerActions.closeDrawer());
    this.app.dispatch(action);
    this.moved(before, word, values);
  }

  moved(before, word, values = {}) {
    const after = this.see();
    const move = moveOf(before, after, word, values.count);
    if (move === null) return;
    this.log.move("move", move, word, after, { from: before.top.screen, ...values });
    this.shown(move, after);
  }

  shown(move, seen) {
    this.log.view(seen);
    this.log.step(move, seen, this.app.below());
  }

  linked(uri, follow, word) {
    this.log.row("link", "open_link", { uri, source: "web" });
    const before = this.see();
    follow();
    const after = this.see();
    const move = moveOf(before, after, word);
    if (move === null) return;
    this.log.move("answer", move, word, after, { from: before.top.screen });
    this.shown("link", after);
  }

  uri() {
    const screen = this.dice.of([...Object.keys(LINKS), "lost"]);
    this.numbers += 1;
    const path = screen === "lost" ? "lost/:n" : LINKS[screen];
    return `skerry://${path.replace(":n", this.numbers)}`;
  }

  // A session, from its start to its end.

  start() {
    const { rules, log } = this;
    const uri = this.dice.chance(0.25) && this.app.signedIn ? this.uri() : null;
    if (rules.splash) return this.startBySplash(uri);
    const first = this.app.signedIn ? "Main" : "SignIn";
    const restored = rules.restart === "restore" && !uri && this.kept;
    this.app.open({ first, state: uri ? this.app.stateOf(uri) : restored || undefined });
    const seen = this.see();
    log.life("app_start", seen);
    if (uri) log.row("link", "open_link", { uri, source: "web" });
    if (restored) log.view(seen);
    else this.shown(uri ? "link" : "start", seen);
  }

  startBySplash(uri) {
    this.app.open({ first: "Splash" });
    this.log.life("app_start", this.see());
    if (uri) this.log.row("link", "open_link", { uri, source: "web" });
    this.shown("start", this.see());
    const before = this.see();
    if (!uri) return this.did("REPLACE", StackActions.replace("Main"));
    this.app.reset(this.app.stateOf(uri));
    this.log.move("answer", "reset", "RESET", this.see(), { from: before.top.screen });
    this.shown("link", this.see());
  }

  session(user) {
    this.log.begin(user);
    this.start();
    const acts = 4 + this.dice.below(22);
    for (let i = 0; i < acts; i += 1) this.act();
    this.log.life(this.dice.chance(0.6) ? "app_background" : "app_exit");
    this.kept = this.app.signedIn ? settled(this.app.state) : undefined;
  }

  act() {
    const seen = this.see();
    if (seen.region === "outside") return this.outside(seen);
    if (seen.top.screen === MENU) return this.fromMenu();
    if (seen.region === "sheet") return this.fromSheet(seen);
    return this.inTab(seen);
  }

  back() {
    if (this.app.below() !== null) this.did("GO_BACK", this.app.back);
  }

  inTab(seen) {
    const { rules } = this;
    const act = this.dice.weighed({
      push: 22,
      navigate: 8,
      back: 22,
      pop: seen.stack.length > 2 ? 5 : 0,
      top: seen.stack.length > 2 ? 4 : 0,
      switch: 15,
      again: 2,
      across: 8,
      sheet: 6,
      replace: seen.stack.length > 1 ? (IN_PLACE[seen.top.screen] ? 12 : 1) : 0,
      update: WITH_NUMBER.includes(seen.top.screen) ? 4 : 0,
      menu: rules.drawer ? 5 : 0,
      link: 6,
      away: 3,
      out: rules.account ? 1 : 0,
    });
    const { tab } = seen;
    const inPlace = act === "replace" && IN_PLACE[seen.top.screen];
    const meant = inPlace && TABS[tab].includes(inPlace) && !this.dice.chance(0.15);
    const screen = meant ? inPlace : this.next(TABS[tab], seen.top.screen);
    const params = this.place(screen);
    if (act === "push") this.did("PUSH", StackActions.push(screen, params));
    else if (act === "navigate") this.did("NAVIGATE", CommonActions.navigate(screen, params));
    else if (act === "back") this.back();
    else if (act === "pop") {
      const count = 2 + this.dice.below(seen.stack.length - 2);
      this.did("POP", StackActions.pop(count), { count });
    } else if (act === "top") this.did("POP_TO_TOP", StackActions.popToTop());
    else if (act === "switch") this.toTab(this.dice.of(Object.keys(TABS)), seen);
    else if (act === "again") this.toTab(tab, seen);
    else if (act === "across") this.across(seen);
    else if (act === "sheet") this.did("NAVIGATE", CommonActions.navigate(this.dice.of(SHEETS)));
    else if (act === "replace") this.did("REPLACE", StackActions.replace(screen, params));
    else if (act === "update") {
      this.numbers += 1;
      this.did("SET_PARAMS", CommonActions.setParams({ n: String(this.numbers) }));
    } else if (act === "menu") this.did("OPEN_DRAWER", DrawerActions.openDrawer());
    else if (act === "link") this.warmLink();
    else if (act === "away") this.away();
    else this.signOut();
  }

  /** A screen to go on to from here: mostly another one, and always what shows as another. */
  next(own, here) {
    const ways = own.slice(1).filter((name) => name !== "NotFound");
    const meant = (WAYS[here] ?? []).filter((name) => ways.includes(name));
    if (meant.length && !this.dice.chance(0.15)) return this.dice.of(meant);
    const again = WITH_NUMBER.includes(here) && this.dice.chance(0.2);
    return this.dice.of(again ? ways : ways.filter((name) => name !== here));
  }

  toTab(tab, seen, menu = false) {
    const leaves = seen.tab !== tab && this.rules.tabs === "reset" && seen.stack.length > 1;
    if (seen.tab === tab) {
      // What a bar of tabs does when the selected one is chosen again.
      if (this.rules.reselect === "stay" || seen.stack.length < 2) return;
      const before = this.see();
      this.app.dispatch(StackActions.popToTop());
      const after = this.see();
      this.log.move("move", "switch_tab", "JUMP_TO", after, { tab, from: before.top.screen });
      this.shown("switch_tab", after);
      return;
    }
    if (leaves) this.app.dispatch(StackActions.popToTop());
    this.did("JUMP_TO", TabActions.jumpTo(tab), { tab, menu, from: seen.top.screen });
  }

  across(seen, menu = false) {
    const tab = this.dice.of(Object.keys(TABS).filter((name) => name !== seen.tab));
    const own = TABS[tab].filter((name) => !TABS[seen.tab]?.slice(1).includes(name));
    const screen = this.next(own, seen.top.screen);
    const params = this.place(screen);
    if (this.rules.across === "here" && seen.region === "tab") {
      this.did("PUSH", StackActions.push(screen, params));
    } else {
      if (this.rules.tabs === "reset" && seen.stack.length > 1) {
        this.app.dispatch(StackActions.popToTop());
      }
      this.did("NAVIGATE", this.within(tab, screen, params), { menu, from: seen.top.screen });
    }
  }

  fromMenu() {
    const act = this.dice.weighed({ close: 3, tab: 3, across: 2, sheet: 2 });
    if (act === "close") return this.back();
    const under = this.app.under();
    if (act === "tab") {
      const others = Object.keys(TABS).filter((tab) => tab !== under.tab);
      return this.toTab(this.dice.of(others), under, true);
    }
    if (act === "across") return this.across(under, true);
    this.did("NAVIGATE", CommonActions.navigate(this.dice.of(SHEETS)), { menu: true });
  }

  fromSheet(seen) {
    const act = this.dice.weighed({ back: 12, notes: 3, sheet: 2, across: 2, link: 2 });
    const other = SHEETS.find((name) => !seen.stack.some(({ screen }) => screen === name));
    if (act === "notes") {
      this.did("PUSH", StackActions.push("FareNotes"));
    } else if (act === "sheet" && other && seen.top.screen !== "FareNotes") {
      this.did("NAVIGATE", CommonActions.navigate(other));
    } else if (act === "across" && this.rules.tabs !== "reset" && this.rules.across === "there") {
      const { tab } = this.app.under();
      this.across({ ...seen, tab });
    } else if (act === "link") this.warmLink();
    else this.back();
  }

  outside(seen) {
    if (seen.top.screen === "SignIn") {
      if (this.dice.chance(0.6)) this.did("NAVIGATE", CommonActions.navigate("CodeEntry"));
      else this.back();
    } else if (this.dice.chance(0.25)) this.back();
    else {
      this.log.row("life", "sign_in", { outcome: "ok" });
      const before = this.see();
      this.app.account(true);
      this.moved(before, "RESET");
    }
  }

  signOut() {
    this.log.row("life", "sign_out");
    const before = this.see();
    this.app.first = "SignIn";
    this.app.account(false);
    this.moved(before, "RESET");
  }

  away() {
    this.log.life("app_background");
    this.log.life("app_foreground");
    this.log.view(this.see());
  }

  warmLink() {
    if (this.rules.tabs === "reset") return;
    if (this.dice.chance(0.5)) {
      this.log.life("app_background");
      this.log.life("app_foreground");
    }
    const uri = this.uri();
    this.linked(uri, () => this.app.link(uri), "NAVIGATE");
  }
}

function mapOf(rules) {
  const homes = {};
  for (const [tab, own] of Object.entries(TABS)) {
    for (const name of own) (homes[name] ??= []).push(tab);
  }
  const placed = Object.entries(homes).map(([name, tabs]) => ({
    name,
    ...(name === "NotFound" ? { role: "not_found" } : {}),
    ...(tabs.length > 1 ? { tabs } : { tab: tabs[0] }),
  }));
  const outside = [
    ["Splash", "splash"],
    ["SignIn", "sign_in"],
    ["CodeEntry", "sign_in"],
    [MENU, "menu"],
    ...SHEETS.map((name) => [name, "sheet"]),
  ].map(([name, role]) => ({ name, role }));
  return {
    mossy_map: 1,
    app: "Skerry Crossings",
    screens: [...placed, ...outside, { name: "FareNotes" }],
    tabs: Object.entries(TABS).map(([name, [root]]) => ({ name, root })),
    history: {
      tabs: rules.tabs,
      root_back: rules.root_back,
      reselect: rules.reselect,
      across: rules.across,
      link_cold: rules.links === "alone" ? "alone" : "parents",
      restart: rules.restart,
    },
    links: Object.entries(LINKS).map(([screen, path]) => ({
      pattern: `skerry://${path.replace(":n", "{n}")}`,
      screen,
      under: under(rules, homes[screen][0]),
    })),
  };
}

export function walkMobile(name, seed, steps) {
  const walk = new Walk(APPS[name], seed);
  for (let user = 0; walk.log.truth.length < steps; user += 1) {
    walk.kept = undefined;
    walk.app.signedIn = true;
    for (let i = 0; i < 3; i += 1) walk.session(`${name}-${user}`);
  }
  walk.app.close();
  return { log: walk.log, map: mapOf(APPS[name]) };
}
