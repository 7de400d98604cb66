/** The colours of the ground that a journey walks on: one for each tab, stone for outside. */
export function groundColour(ground: string, tabs: readonly string[]): string {
  const tab = tabs.indexOf(ground);
  return tab < 0 ? "var(--ground-outside)" : `var(--ground-${tab % 7})`;
}

interface Placed {
  depth: number;
  region: string;
  tab: string | null;
}

/** What a step stands on, and how high: a sheet lies on the ground and height of what is under. */
export function terrain(steps: readonly Placed[]): { ground: string; height: number }[] {
  let ground = "outside";
  let height = 0;
  return steps.map((step) => {
    if (step.region === "sheet") {
      return { ground, height: height + step.depth };
    }
    ground = step.tab ?? "outside";
    height = step.depth;
    return { ground, height };
  });
}

/** Runs of neighbouring steps on the same ground. */
export function bands(grounds: readonly string[]): { ground: string; from: number; to: number }[] {
  const found: { ground: string; from: number; to: number }[] = [];
  for (const [i, ground] of grounds.entries()) {
    const last = found.at(-1);
    if (last?.ground === ground) {
      last.to = i;
    } else {
      found.push({ ground, from: i, to: i });
    }
  }
  return found;
}
