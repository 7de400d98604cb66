// A phone app whose screens are kept by a navigation library: a stack of an account's screens, tabs
// with a stack each, sheets over them, and a drawer. What a link, a "back" or a tab does to the
// stacks is the library's business; this file only calls it, and looks at the state it leaves.
import {
  BaseNavigationContainer,
  createNavigationContainerRef,
  createNavigatorFactory,
  getActionFromState,
  getStateFromPath,
  useNavigationBuilder,
} from "@react-navigation/core";
import {
  CommonActions,
  DrawerActions,
  DrawerRouter,
  StackActions,
  StackRouter,
  TabActions,
  TabRouter,
} from "@react-navigation/routers";
import React from "react";
import { Tree } from "./tree.mjs";

const h = React.createElement;

export const TABS = {
  Sailings: ["SailingsBoard", "SailingDetail", "SeatPick", "DelayInfo", "NotFound"],
  Passes: ["PassWallet", "PassDetail", "BuyPass", "Receipt", "HelpTopic"],
  Harbour: ["HarbourMap", "PierDetail", "ParkingInfo", "Timetable"],
  Me: ["MeHome", "TripHistory", "Refund", "Settings", "HelpTopic"],
};
const DETAILS = [...new Set(Object.values(TABS).flatMap((screens) => screens.slice(1)))];
const OUTSIDE = ["Splash", "SignIn", "CodeEntry"];
const SHEETS = ["PaySheet", "RateSheet"];
const MENU = "SideMenu";
export const LINKS = {
  SailingDetail: "sailing/:n",
  PassDetail: "pass/:n",
  BuyPass: "buy",
  HelpTopic: "help/:n",
  PierDetail: "pier/:n",
  HarbourMap: "harbour",
  TripHistory: "trips",
};

const Leaf = () => null;

/** A navigator that mounts only what was shown, as those of real apps do. */
function navigatorOf(router, mountsAll) {
  function Navigator({ children, initialRouteName, backBehavior }) {
    const options = { children, initialRouteName };
    if (backBehavior) options.backBehavior = backBehavior;
    const { state, descriptors, NavigationContent } = useNavigationBuilder(router, options);
    const shown = React.useRef(new Set());
    shown.current.add(state.routes[state.index].key);
    const mounted = state.routes.filter((r) => mountsAll || shown.current.has(r.key));
    return h(
      NavigationContent,
      null,
      mounted.map((r) => h(React.Fragment, { key: r.key }, descriptors[r.key].render())),
    );
  }
  return createNavigatorFactory(Navigator)();
}

function screens({ Navigator, Screen }, components, props) {
  const all = Object.entries(components).map(([name, component]) =>
    h(Screen, { key: name, name, component }),
  );
  return h(Navigator, props, all);
}

function rootOf(rules) {
  const Root = navigatorOf(StackRouter, true);
  const Tabs = navigatorOf(TabRouter, rules.restart === "restore");
  const Drawer = rules.drawer && navigatorOf(DrawerRouter, false);
  const stacks = {};
  for (const [tab, own] of Object.entries(TABS)) {
    const Stack = navigatorOf(StackRouter, true);
    const names = rules.across === "here" ? [own[0], ...DETAILS] : own;
    const leaves = Object.fromEntries(names.map((name) => [name, Leaf]));
    stacks[tab] = () => screens(Stack, leaves, { initialRouteName: own[0] });
  }
  const TabsScreen = () => screens(Tabs, stacks, { backBehavior: rules.back });
  const Main = rules.drawer
    ? () => screens(Drawer, { Home: TabsScreen }, {})
    : TabsScreen;
  const outside = Object.fromEntries(OUTSIDE.map((name) => [name, Leaf]));
  const inside = { Main, ...Object.fromEntries([...SHEETS, "FareNotes"].map((n) => [n, Leaf])) };
  // Who is not signed in has no screens inside at all: signing out unmounts them.
  return function App({ signedIn, first }) {
    const { Splash, ...account } = outside;
    const own = rules.account ? (signedIn ? inside : account) : { Splash, ...account, ...inside };
    return screens(Root, own, { initialRouteName: first });
  };
}

function linking(rules) {
  const screensOf = {};
  for (const [tab, own] of Object.entries(TABS)) {
    const paths = own.filter((name) => LINKS[name] && !(tab === "Me" && name === "HelpTopic"));
    screensOf[tab] = { screens: Object.fromEntries(paths.map((name) => [name, LINKS[name]])) };
    if (under(rules, tab) === "parents") screensOf[tab].initialRouteName = own[0];
  }
  screensOf.Sailings.screens.NotFound = "*";
  const main = { screens: screensOf };
  return { screens: { Main: rules.drawer ? { screens: { Home: main } } : main } };
}

/** What lies under a screen in this tab to which a link leads, as the app's authors chose. */
export function under(rules, tab) {
  return rules.links === "mixed" ? (tab === "Harbour" ? "alone" : "parents") : rules.links;
}

class Mounted {
  constructor(App, props, initialState) {
    this.ref = createNavigationContainerRef();
    this.App = App;
    this.initialState = initialState;
    this.tree = new Tree(this.element(props));
  }

  element(props) {
    const onUnhandledAction = () => (this.unhandled = true);
    const { ref, initialState } = this;
    return h(BaseNavigationContainer, { ref, initialState, onUnhandledAction }, h(this.App, props));
  }

  /** Whether the library could do it. */
  do(change) {
    this.unhandled = false;
    this.tree.act(change);
    return !this.unhandled;
  }

  close() {
    this.tree.update(null);
  }
}

export class MobileApp {
  constructor(rules) {
    this.rules = rules;
    this.App = rootOf(rules);
    this.config = linking(rules);
    this.signedIn = true;
    this.probe = null;
  }

  get props() {
    return { signedIn: this.signedIn, first: this.first };
  }

  /** The app starts: with nothing, with what it kept, or as a link says. */
  open({ first = "Main", state = undefined } = {}) {
    this.first = first;
    this.running?.close();
    this.running = new Mounted(this.App, this.props, state);
  }

  stateOf(uri) {
    return getStateFromPath(uri.replace(/^skerry:\//, ""), this.config);
  }

  /** What the back button does: the view of an open drawer takes it before the screens do. */
  get back() {
    return this.see().top.screen === MENU ? DrawerActions.closeDrawer() : CommonActions.goBack();
  }

  get state() {
    return this.running.ref.getRootState();
  }

  dispatch(action) {
    return this.running.do(() => this.running.ref.dispatch(action));
  }

  link(uri) {
    const state = this.stateOf(uri);
    const action = getActionFromState(state, this.config);
    this.running.do(() => {
      if (action) this.running.ref.dispatch(action);
      else this.running.ref.resetRoot(state);
    });
  }

  /** Signing in and out exchange the screens that there are. */
  account(signedIn) {
    this.signedIn = signedIn;
    this.running.tree.update(this.running.element(this.props));
  }

  reset(state) {
    this.running.do(() => this.running.ref.resetRoot(state));
  }

  see() {
    return look(this.state);
  }

  /** What lies under the sheets, or under an open drawer. */
  under() {
    const { routes, ...state } = this.state;
    const [main] = routes.filter(({ name }) => name === "Main");
    const shut = main.state.type === "drawer" ? { ...main.state, history: [] } : main.state;
    return look({ ...state, index: 0, routes: [{ ...main, state: shut }] });
  }

  /** What "back" reveals, by going back on a copy. */
  below() {
    this.probe ??= new Mounted(this.App, this.props, undefined);
    const { probe } = this;
    probe.tree.update(probe.element(this.props));
    probe.do(() => probe.ref.resetRoot(settled(this.state)));
    const handled = probe.do(() => probe.ref.dispatch(this.back));
    return handled ? look(probe.ref.getRootState()).top : null;
  }

  close() {
    this.running?.close();
    this.probe?.close();
  }
}

/** A copy of a state in which no wish of where to go inside of a screen is still open. */
export function settled(state) {
  const routes = state.routes.map(({ params, ...route }) =>
    route.state ? { ...route, state: settled(route.state) } : { ...route, params },
  );
  return { ...state, routes };
}

function place(route) {
  const params = Object.fromEntries(
    Object.entries(route.params ?? {}).filter(([key]) => key === "n"),
  );
  const some = Object.keys(params).length > 0;
  return { key: route.key, screen: route.name, params: some ? params : null };
}

/** What is on the screen, in a state of the library's. */
export function look(state) {
  const routes = state.routes.slice(0, state.index + 1);
  const isSheet = ({ name }) => SHEETS.includes(name) || name === "FareNotes";
  const top = routes.at(-1);
  if (top.name !== "Main") {
    const kind = isSheet(top);
    let bottom = routes.length - 1;
    while (bottom > 0 && routes[bottom - 1].name !== "Main" && isSheet(routes[bottom - 1]) === kind) {
      bottom -= 1;
    }
    const stack = routes.slice(bottom).map(place);
    return { region: kind ? "sheet" : "outside", tab: null, stack, top: stack.at(-1) };
  }
  let inner = top.state;
  if (inner.type === "drawer") {
    const open = inner.history?.some((entry) => entry.type === "drawer");
    const menu = { key: "menu", screen: MENU, params: null };
    if (open) return { region: "sheet", tab: null, stack: [menu], top: menu };
    inner = inner.routes[inner.index].state;
  }
  const tab = inner.routes[inner.index];
  const stack = tab.state.routes.slice(0, tab.state.index + 1).map(place);
  return { region: "tab", tab: tab.name, stack, top: stack.at(-1) };
}

/** The keys of all places that stand on some stack. */
export function leafKeys(state) {
  const keys = state.routes.flatMap((r) => (r.state ? [...leafKeys(r.state)] : [r.key]));
  return new Set(keys);
}

export { CommonActions, DrawerActions, MENU, SHEETS, StackActions, TabActions };
