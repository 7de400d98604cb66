import type { AppSummary } from "../../api/client";
import { useKept, useMapView, useOnboarding, useVocabulary } from "../../api/queries";
import { short } from "../../format";
import { useAddress, useScope } from "../../scope/scope";
import { Kept } from "../../shell/Kept";
import { Empty, Loading, Trouble } from "../../shell/states";
import { FirstStage, Options, toolsOf } from "./Builder";
import { FunnelPage } from "./FunnelPage";
import { proposed } from "./proposed";
import { plainSpec, readSpec, specOfScreens, stageWords, type Written } from "./spec";

/** Funnels of one's own: built of what the log holds, kept, copied. */
export function FunnelsView({ app }: { app: AppSummary }) {
  const [address, change] = useAddress();
  const vocabulary = useVocabulary(app.key);
  const patterns = (useKept(app.key, "pattern").data ?? []).map(({ name, document }) => ({
    name,
    pattern: String(document.pattern),
  }));
  const spec = readSpec(address.get("funnel"));
  const choose = (next: Written | null) =>
    change({ funnel: next && JSON.stringify(plainSpec(next)), figure: null });
  if (vocabulary.isPending) {
    return <Loading />;
  }
  if (vocabulary.isError) {
    return <Trouble problem={vocabulary.error} />;
  }
  if (!app.logs) {
    return (
      <Empty title="There is no log of this app yet.">
        Bring one in under Logs; then funnels can be built here of what it holds.
      </Empty>
    );
  }
  const kept = <KeptFunnels app={app.key} spec={spec} onChoose={choose} />;
  const building = {
    spec: spec ?? { stages: [] },
    vocabulary: vocabulary.data,
    patterns,
    onChange: choose,
  };
  if (!spec) {
    return (
      <div className="view-body">
        <h1>A funnel of your own: pick its first stage.</h1>
        {kept}
        <FirstStage {...building} />
        <Ready app={app.key} onChoose={choose} />
      </div>
    );
  }
  return (
    <FunnelPage
      app={app}
      spec={spec}
      finish={`get to ${lastWords(spec)}`}
      tools={toolsOf(building)}
    >
      {kept}
      {spec.stages.length > 1 && <Options key={address.get("funnel")} {...building} />}
    </FunnelPage>
  );
}

function lastWords(spec: Written): string {
  const last = spec.stages.at(-1);
  return last ? stageWords(last) : "the last stage";
}

/** What to begin with, to be changed: ways that many go, and the onboarding of the map. */
function Ready({ app, onChoose }: { app: string; onChoose: (spec: Written) => void }) {
  const onboarding = useOnboarding(app).data;
  const moves = useMapView(app, useScope()).data?.moves ?? [];
  const ways = proposed(moves);
  return (
    <section className="mt-3" data-testid="proposed">
      <p className="soft">
        A stage is a screen, a role, a tab, a move or an event. Figures follow as you build.
        {(ways.length > 0 || onboarding) && " Or begin with what many do, and change it:"}
      </p>
      {ways.map((way) => (
        <p key={way.join()} className="mb-1">
          <button
            type="button"
            className="figure-button"
            onClick={() => onChoose(specOfScreens(way))}
          >
            {way.map((screen) => short(screen, 30)).join(" → ")}
          </button>
        </p>
      ))}
      {onboarding && (
        <p className="mb-1">
          <button
            type="button"
            className="figure-button"
            onClick={() => onChoose(onboarding as Written)}
          >
            a copy of onboarding
          </button>
        </p>
      )}
    </section>
  );
}

interface KeptProps {
  app: string;
  spec: Written | null;
  onChoose: (spec: Written | null) => void;
}

function KeptFunnels({ app, spec, onChoose }: KeptProps) {
  const written = spec && plainSpec(spec);
  return (
    <Kept app={app} kind="funnel" open={written} onChoose={onChoose}>
      <a
        className="small-text"
        download="funnel.json"
        href={`data:application/json,${encodeURIComponent(JSON.stringify(written))}`}
      >
        download
      </a>
      <button type="button" className="figure-button" onClick={() => onChoose(null)}>
        a new one
      </button>
    </Kept>
  );
}
