import {
  gatesOf,
  linksOf,
  type MapDocument,
  placesOf,
  routesOf,
  UNDER,
  withGates,
  withLinks,
  withPlaces,
  withRoutes,
} from "./document";
import { EntryTable } from "./EntryTable";

interface Props {
  map: MapDocument;
  fixed: boolean;
  onChange: (map: MapDocument) => void;
}

/** Tabs, links, routes and gates: what leads where. */
export function Connections({ map, fixed, onChange }: Props) {
  const screens = (map.screens ?? []).map((screen) => screen.name);
  return (
    <>
      <EntryTable
        title="Tabs"
        about="A filter switches content inside one screen: it is not a place."
        fixed={fixed}
        fields={[
          { key: "name", label: "tab" },
          { key: "kind", label: "kind", choices: ["place", "filter"] },
          { key: "screen", label: "its root, or the screen it is on", choices: screens },
          { key: "shown_to", label: "shown to", hint: "role = crew, staff" },
        ]}
        entries={placesOf(map)}
        onChange={(entries) => onChange(withPlaces(map, entries))}
      />
      <EntryTable
        title="Links"
        about="Deep links, the screens they open, and what lies under these where no stack is kept, if not as for all links. A placeholder is a value that was never filled in."
        fixed={fixed}
        fields={[
          { key: "pattern", label: "pattern", hint: "app://item/{item}", wide: true },
          { key: "screen", label: "opens", choices: screens },
          { key: "under", label: "lies", choices: ["", "parents", "alone"], shown: UNDER },
          { key: "placeholders", label: "placeholders", hint: "item = -1, null" },
        ]}
        entries={linksOf(map)}
        onChange={(entries) => onChange(withLinks(map, entries))}
      />
      <EntryTable
        title="Routes"
        about="Names with values in them, as a log of routes has: /item/7 is the screen, and 7 its param."
        fixed={fixed}
        fields={[
          { key: "route", label: "route", hint: "/item/{item}", wide: true },
          { key: "screen", label: "is", choices: screens },
        ]}
        entries={routesOf(map)}
        onChange={(entries) => onChange(withRoutes(map, entries))}
      />
      <EntryTable
        title="Gates"
        about="What sends a user elsewhere who may not see a screen."
        fixed={fixed}
        fields={[
          { key: "name", label: "gate" },
          { key: "protects", label: "protects", hint: "screens, with commas", wide: true },
          { key: "sends_to", label: "sends to", choices: screens },
        ]}
        entries={gatesOf(map)}
        onChange={(entries) => onChange(withGates(map, entries))}
      />
    </>
  );
}
