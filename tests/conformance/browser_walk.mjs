// A site in a browser: one history for all of it, kept by a router whose guards send people to
// sign-in. The walker only calls the router, and reads its history to see what it did.
import { createMemoryHistory, createRouter } from "vue-router";
import { Recorder, dice } from "./recorder.mjs";

const PAGES = {
  SailingsBoard: "/",
  SailingDetail: "/sailing/:n",
  SeatPick: "/sailing/:n/seats",
  PassWallet: "/passes",
  PassDetail: "/pass/:n",
  BuyPass: "/buy",
  Receipt: "/receipt/:n",
  MeHome: "/me",
  TripHistory: "/trips",
  SignIn: "/sign-in",
  NotFound: "/:path(.*)*",
};
const TABS = { Sailings: "SailingsBoard", Passes: "PassWallet", Me: "MeHome" };
const TAB_OF = {
  ...{ SailingsBoard: "Sailings", SailingDetail: "Sailings", SeatPick: "Sailings" },
  ...{ PassWallet: "Passes", PassDetail: "Passes", BuyPass: "Passes", Receipt: "Passes" },
  ...{ MeHome: "Me", TripHistory: "Me" },
};
/** Where each page is meant to lead; now and then people come by another way. */
const WAYS = {
  SailingsBoard: ["SailingDetail"],
  SailingDetail: ["SeatPick"],
  PassWallet: ["PassDetail", "BuyPass"],
  PassDetail: ["BuyPass"],
  BuyPass: ["Receipt"],
  MeHome: ["TripHistory"],
  TripHistory: ["Receipt"],
};
const GUARDED = ["BuyPass", "MeHome", "TripHistory"];
const NOWHERE = { template: "" };

class Site {
  constructor() {
    this.history = createMemoryHistory();
    const routes = Object.entries(PAGES).map(([name, path]) => ({ name, path, component: NOWHERE }));
    this.router = createRouter({ history: this.history, routes });
    this.router.beforeEach((to) => {
      if (!GUARDED.includes(to.name) || this.signedIn) return true;
      this.refused = to;
      return { name: "SignIn", query: { next: to.fullPath } };
    });
  }

  async push(place) {
    this.refused = null;
    await this.router.push(place);
  }

  async replace(place) {
    this.refused = null;
    await this.router.replace(place);
  }

  /** Back or forward by so many entries, and wait for where it leads. */
  async go(count) {
    this.refused = null;
    const arrived = new Promise((resolve) => {
      const stop = this.router.afterEach((to, from, failure) => {
        // A guard that answers with another page is followed by going there.
        if (failure && this.refused && to.name === this.refused.name) return;
        stop();
        resolve();
      });
    });
    this.router.go(count);
    await arrived;
  }

  /** The page that lies so many entries away, without going there; null where there is none. */
  peek(count) {
    const { history } = this;
    const [here, positions] = [history.location, Math.abs(count)];
    let moved = 0;
    let found = null;
    for (let i = 0; i < positions; i += 1) {
      const before = history.location;
      history.go(Math.sign(count), false);
      if (history.location === before) break;
      moved += 1;
    }
    if (moved === positions) found = this.place(history.location);
    history.go(-Math.sign(count) * moved, false);
    if (history.location !== here) throw new Error("the history moved");
    return found;
  }

  place(location) {
    const route = this.router.resolve(location);
    const { n } = route.params;
    // The query only tells visits of one page apart, so that a history can be counted.
    return { screen: route.name, params: n ? { n } : null };
  }

  see() {
    const below = [];
    for (let count = 1; ; count += 1) {
      const place = this.peek(-count);
      if (!place) break;
      below.unshift(place);
    }
    const stack = [...below, this.place(this.history.location)];
    let tab = null;
    for (const { screen } of stack) tab = screen === "SignIn" ? null : (TAB_OF[screen] ?? tab);
    const region = tab ? "tab" : "outside";
    return { region, tab, stack, top: stack.at(-1) };
  }
}

class Walk {
  constructor(seed) {
    this.dice = dice(seed);
    this.log = new Recorder();
    this.numbers = 0;
  }

  to(name) {
    this.numbers += 1;
    const n = String(this.numbers);
    const params = PAGES[name].includes(":n") ? { n } : name === "NotFound" ? { path: ["lost", n] } : {};
    return { name, params, query: { visit: n } };
  }

  record(move, word, before, values = {}) {
    const after = this.site.see();
    const { refused } = this.site;
    const from = before.top.screen;
    if (this.site.history.location === this.at) return; // sent to where they are: nothing happened
    const wanted = refused && this.site.place(refused.fullPath);
    if (wanted) {
      const shown = { top: wanted, tab: null };
      this.log.move("move", move, word, shown, { from, ...values });
      this.log.row("move", "redirect", { screen: after.top.screen, from: wanted.screen });
    } else this.log.move("move", move, word, after, { from, ...values });
    this.shown(wanted ? "redirect" : move, after);
  }

  shown(move, seen) {
    this.log.view(seen);
    this.log.step(move, seen, this.site.peek(-1));
  }

  async start() {
    this.site = new Site();
    const linked = this.dice.chance(0.3);
    const name = linked ? this.dice.of(["SailingDetail", "PassDetail"]) : "SailingsBoard";
    const place = this.to(name);
    await this.site.push(place);
    const seen = this.site.see();
    this.log.life("app_start", seen);
    if (linked) {
      const path = PAGES[name].replace(":n", place.params.n);
      this.log.row("link", "open_link", { uri: `https://skerry.example${path}`, source: "web" });
    }
    this.shown(linked ? "link" : "start", seen);
  }

  async session(user) {
    this.log.begin(user);
    await this.start();
    const acts = 4 + this.dice.below(22);
    for (let i = 0; i < acts; i += 1) await this.act();
    this.log.life("app_background");
  }

  async act() {
    const { site } = this;
    const before = site.see();
    this.at = site.history.location;
    const ways = (sign) => [1, 2, 3].filter((count) => site.peek(sign * count)).length;
    const [back, ahead] = [ways(-1), ways(1)];
    const onSignIn = before.top.screen === "SignIn";
    const act = this.dice.weighed({
      push: 30,
      back: back ? 25 : 0,
      far: back > 1 ? 6 : 0,
      forward: ahead ? 14 : 0,
      further: ahead > 1 ? 4 : 0,
      replace: before.top.screen === "BuyPass" ? 20 : 2,
      tab: 12,
      reload: 3,
      signIn: onSignIn ? 60 : 0,
      signOut: site.signedIn && !onSignIn ? 3 : 0,
    });
    if (act === "back") return this.go("pop", -1, before);
    if (act === "far") return this.go("pop_to", -(2 + this.dice.below(back - 1)), before);
    if (act === "forward") return this.go("forward", 1, before);
    if (act === "further") return this.go("forward", 2 + this.dice.below(ahead - 1), before);
    if (act === "reload") {
      this.log.life("app_recreate");
      return this.log.view(before);
    }
    if (act === "signOut") {
      this.log.row("life", "sign_out");
      site.signedIn = false;
      await site.replace(this.to("SignIn"));
      return this.record("replace", "replaceState", before);
    }
    if (act === "signIn") {
      this.log.row("life", "sign_in", { outcome: "ok" });
      site.signedIn = true;
    }
    if (act === "tab") {
      const tab = this.dice.of(Object.keys(TABS));
      if (TABS[tab] === before.top.screen || onSignIn) return undefined;
      await site.push(this.to(TABS[tab]));
      if (tab === before.tab) return this.record("push", "pushState", before);
      return this.record("switch_tab", null, before, { tab });
    }
    const pages = Object.keys(TAB_OF).filter((name) => !Object.values(TABS).includes(name));
    const others = pages.filter((page) => page !== before.top.screen);
    const meant = WAYS[before.top.screen];
    const named = meant && !this.dice.chance(0.15) ? meant : others;
    const name = this.dice.chance(0.03) ? "NotFound" : this.dice.of(named);
    if (act === "push") {
      // The page of sign-in leads nowhere that would only send people back to it.
      if (onSignIn && GUARDED.includes(name)) return undefined;
      await site.push(this.to(name));
      return this.record("push", "pushState", before);
    }
    await site.replace(this.to(act === "signIn" ? "SailingsBoard" : this.dice.of(named)));
    return this.record("replace", "replaceState", before);
  }

  async go(move, count, before) {
    await this.site.go(count);
    const far = Math.abs(count);
    this.record(move, "popstate", before, far > 1 ? { count: far } : {});
  }
}

const MAP = {
  mossy_map: 1,
  app: "Skerry Crossings",
  screens: [
    ...Object.entries(TAB_OF).map(([name, tab]) => ({ name, tab })),
    { name: "SignIn", role: "sign_in" },
    { name: "NotFound", role: "not_found" },
  ],
  tabs: Object.entries(TABS).map(([name, root]) => ({ name, root })),
  history: { tabs: "shared", outside: "kept", link_cold: "alone" },
  links: ["SailingDetail", "PassDetail"].map((screen) => ({
    pattern: `https://skerry.example${PAGES[screen].replace(":n", "{n}")}`,
    screen,
  })),
};

export async function walkBrowser(seed, steps) {
  const walk = new Walk(seed);
  for (let user = 0; walk.log.truth.length < steps; user += 1) {
    for (let i = 0; i < 2; i += 1) await walk.session(`browser-${user}`);
  }
  return { log: walk.log, map: MAP };
}
