import { createContext, type ReactNode, useContext } from "react";
import { groundColour } from "./grounds";

const Tabs = createContext<readonly string[]>([]);

/** Gives all charts within it the app's tabs in their order, so that each keeps its colour. */
export function TabsProvider({ tabs, children }: { tabs: readonly string[]; children: ReactNode }) {
  return <Tabs.Provider value={tabs}>{children}</Tabs.Provider>;
}

export function useTabs(): (ground: string) => string {
  const tabs = useContext(Tabs);
  return (ground) => groundColour(ground, tabs);
}
