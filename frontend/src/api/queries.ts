import {
  keepPreviousData,
  type QueryClient,
  useMutation,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import {
  type Answer,
  type AppSummary,
  api,
  dataOf,
  lastLine,
  type Mapping,
  Problem,
  type Schemas,
  type Scope,
} from "./client";
import type { paths } from "./schema";

type Wanted = NonNullable<paths["/api/apps/{app}/journeys"]["get"]["parameters"]["query"]>;

/** What a list of journeys is asked for, beside the scope. */
export interface ListQuery {
  search?: string;
  mark?: Wanted["mark"];
  move?: Wanted["move"];
  start?: Wanted["start"];
  exit?: Wanted["exit"];
  fewest?: number;
  most?: number;
  tab?: string;
  depth?: number;
  turns?: number;
  tries?: number;
  sort: Sort;
  measure?: string;
  figure?: string;
}

export const SORTS = {
  newest: "newest first",
  oldest: "oldest first",
  longest: "most steps first",
  deepest: "deepest first",
  slowest: "longest time first",
  slowest_start: "slowest start first",
  most_turns: "most turns of a loop first",
  most_tries: "most failed tries first",
  longest_stay: "longest stay on a screen first",
} as const;
export type Sort = keyof typeof SORTS;

const SECONDS_BETWEEN_LOOKS = 3;

/**
 * All apps. While one has no log, it is looked whether some has come in, whatever page is open; then
 * all is asked anew.
 */
export function useApps() {
  const queries = useQueryClient();
  return useQuery({
    queryKey: ["apps"],
    queryFn: async () => {
      const before = queries.getQueryData<AppSummary[]>(["apps"]);
      const now = await dataOf(api.GET("/api/apps"));
      const had = new Map(before?.map((app) => [app.key, app.logs]));
      if (now.some((app) => app.logs && had.get(app.key) === 0)) {
        readAllAnew(queries, "apps");
      }
      return now;
    },
    refetchInterval: ({ state }) =>
      state.data?.some((app) => !app.logs) ? SECONDS_BETWEEN_LOOKS * 1000 : false,
  });
}

/** How much is in scope. While an app sends its events by itself, all figures follow it. */
export function useScopeCounts(app: AppSummary, scope: Scope) {
  const queries = useQueryClient();
  const counts = useQuery({
    queryKey: ["scope", app.key, scope],
    queryFn: () =>
      dataOf(
        api.GET("/api/apps/{app}/scope", {
          params: { path: { app: app.key }, query: { ...scope } },
        }),
      ),
    placeholderData: keepPreviousData,
    refetchInterval: app.live && SECONDS_BETWEEN_LOOKS * 1000,
  });
  const version = counts.isPlaceholderData ? undefined : counts.data?.version;
  const seen = useRef({ app: app.key, version });
  useEffect(() => {
    const before = seen.current;
    if (version) {
      seen.current = { app: app.key, version };
    }
    if (version && before.version && before.version !== version && before.app === app.key) {
      queries.invalidateQueries({ queryKey: ["apps"] });
      queries.invalidateQueries({ queryKey: ["study", app.key] });
    }
  }, [app.key, version, queries]);
  return counts;
}

export function useLogs(app: string) {
  return useQuery({
    queryKey: ["study", app, "logs"],
    queryFn: () => dataOf(api.GET("/api/apps/{app}/logs", { params: { path: { app } } })),
  });
}

export function useSetAside(log: number, reason: string, limit: number) {
  return useQuery({
    queryKey: ["set-aside", log, reason, limit],
    queryFn: () =>
      dataOf(
        api.GET("/api/logs/{log_id}/set-aside", {
          params: { path: { log_id: log }, query: { reason, limit } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

export function useHealth(app: string) {
  return useQuery({
    queryKey: ["study", app, "health"],
    queryFn: () => dataOf(api.GET("/api/apps/{app}/health", { params: { path: { app } } })),
  });
}

export function useHealthRows(app: string, finding: string, limit: number) {
  return useQuery({
    queryKey: ["study", app, "health", finding, limit],
    queryFn: () =>
      dataOf(
        api.GET("/api/apps/{app}/health/{finding}", {
          params: { path: { app, finding }, query: { limit } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

export const PAGE = 50;

export function journeysPage(app: string, scope: Scope, list: ListQuery, page: number) {
  return {
    queryKey: ["study", app, "journeys", scope, list, page],
    queryFn: () =>
      dataOf(
        api.GET("/api/apps/{app}/journeys", {
          params: {
            path: { app },
            query: { ...scope, ...list, offset: page * PAGE, limit: PAGE },
          },
        }),
      ),
  };
}

export function useJourney(app: string, key: string | null) {
  return useQuery({
    queryKey: ["study", app, "journey", key],
    queryFn: () =>
      dataOf(
        api.GET("/api/apps/{app}/journey", {
          params: { path: { app }, query: { key: key ?? "" } },
        }),
      ),
    enabled: key !== null,
    placeholderData: keepPreviousData,
  });
}

export function useStep(app: string, key: string, step: number) {
  return useQuery({
    queryKey: ["study", app, "step", key, step],
    queryFn: () =>
      dataOf(
        api.GET("/api/apps/{app}/journey/step", {
          params: { path: { app }, query: { key, step } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

/** How a file will be read: by the mapping given, or by the one that the server proposes. */
export function useMappingPreview(job: number, mapping: Mapping | null) {
  const path = { params: { path: { job_id: job } } };
  return useQuery({
    queryKey: ["mapping", job, mapping],
    queryFn: () =>
      dataOf(
        mapping
          ? api.POST("/api/jobs/{job_id}/mapping/preview", { ...path, body: mapping })
          : api.GET("/api/jobs/{job_id}/mapping", path),
      ),
    placeholderData: keepPreviousData,
  });
}

/** Read all anew, but for how a file will be read: that does not change, and ends when it is. */
export function readAllAnew(queries: QueryClient, but?: string) {
  return queries.invalidateQueries({
    predicate: ({ queryKey }) => queryKey[0] !== "mapping" && queryKey[0] !== but,
  });
}

/** A change on the server, after which all that was read of the apps is read anew. */
export function useChange<Input, Output>(change: (input: Input) => Promise<Output>) {
  const queries = useQueryClient();
  return useMutation({ mutationFn: change, onSettled: () => readAllAnew(queries) });
}

export function useMapView(app: string, scope: Scope) {
  return useQuery({
    queryKey: ["study", app, "map", scope],
    queryFn: () =>
      dataOf(
        api.GET("/api/apps/{app}/map/view", { params: { path: { app }, query: { ...scope } } }),
      ),
    placeholderData: keepPreviousData,
  });
}

/** How well the replay fits all logs of an app, whatever is in scope. */
export function useFit(app: string) {
  return useQuery({
    queryKey: ["study", app, "fit"],
    queryFn: () => dataOf(api.GET("/api/apps/{app}/map/fit", { params: { path: { app } } })),
    placeholderData: keepPreviousData,
  });
}

/** Changes of the map that would mend it; asked for only where there is something to mend. */
export function useMends(app: string, enabled: boolean) {
  return useQuery({
    queryKey: ["study", app, "mends"],
    queryFn: () => dataOf(api.GET("/api/apps/{app}/map/fit/mends", { params: { path: { app } } })),
    enabled,
  });
}

export function useTakeMend(app: string) {
  return useChange((mend: Schemas["MendBody"]) => {
    const { kind, subject, value } = mend;
    return dataOf(
      api.POST("/api/apps/{app}/map/fit/mends", {
        params: { path: { app } },
        body: { kind, subject, value },
      }),
    );
  });
}

/** An earlier version of the map becomes the newest. */
export function useTakeVersion(app: string) {
  return useChange((version: number) =>
    dataOf(
      api.POST("/api/apps/{app}/map/versions/{version}", {
        params: { path: { app, version } },
      }),
    ),
  );
}

export function useDraft(app: string) {
  return useQuery({
    queryKey: ["study", app, "draft"],
    queryFn: () => dataOf(api.GET("/api/apps/{app}/map/draft", { params: { path: { app } } })),
  });
}

export function useHistoryFits(app: string, by: string) {
  return useQuery({
    queryKey: ["study", app, "history", by],
    queryFn: () =>
      dataOf(api.GET("/api/apps/{app}/map/history", { params: { path: { app }, query: { by } } })),
    placeholderData: keepPreviousData,
  });
}

/** A new version of an app's map, from the text of its file. */
export function useSaveMap(app: string) {
  return useChange((text: string) =>
    dataOf(
      api.PUT("/api/apps/{app}/map", {
        params: { path: { app } },
        body: text,
        bodySerializer: String,
        headers: { "Content-Type": "text/plain" },
      }),
    ),
  );
}

export function useOnboarding(app: string) {
  return useQuery({
    queryKey: ["study", app, "onboarding"],
    queryFn: () => dataOf(api.GET("/api/apps/{app}/onboarding", { params: { path: { app } } })),
  });
}

export function useVocabulary(app: string) {
  return useQuery({
    queryKey: ["study", app, "vocabulary"],
    queryFn: () => dataOf(api.GET("/api/apps/{app}/vocabulary", { params: { path: { app } } })),
  });
}

export function useMatched(app: string, key: string, figure: string | null) {
  return useQuery({
    queryKey: ["study", app, "matched", key, figure],
    queryFn: () =>
      dataOf(
        api.GET("/api/apps/{app}/journey/matched", {
          params: { path: { app }, query: { key, figure: figure ?? "" } },
        }),
      ),
    enabled: figure !== null,
  });
}

export function useLoopsOf(app: string, key: string) {
  return useQuery({
    queryKey: ["study", app, "loops of", key],
    queryFn: () =>
      dataOf(
        api.GET("/api/apps/{app}/journey/loops", { params: { path: { app }, query: { key } } }),
      ),
  });
}

/** What a pattern means, or where it is wrong. */
export function usePatternReading(app: string, pattern: string) {
  return useQuery({
    queryKey: ["study", app, "pattern", pattern],
    queryFn: () =>
      dataOf(
        api.GET("/api/apps/{app}/patterns/read", {
          params: { path: { app }, query: { pattern } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

/** Where the pattern of a figure fits in a journey. */
export function useMatchesOf(app: string, key: string, figure: string | null) {
  return useQuery({
    queryKey: ["study", app, "matches of", key, figure],
    queryFn: () =>
      dataOf(
        api.GET("/api/apps/{app}/journey/matches", {
          params: { path: { app }, query: { key, figure: figure ?? "" } },
        }),
      ),
    enabled: figure !== null,
  });
}

export type KeptKind = "funnel" | "segment" | "pattern";

export function useKept(app: string, kind: KeptKind) {
  return useQuery({
    queryKey: ["study", app, "kept", kind],
    queryFn: () =>
      dataOf(api.GET("/api/apps/{app}/kept/{kind}", { params: { path: { app, kind } } })),
  });
}

export function useKeep(app: string, kind: KeptKind) {
  return useChange((body: { name: string; document: Record<string, unknown> }) =>
    dataOf(api.PUT("/api/apps/{app}/kept/{kind}", { params: { path: { app, kind } }, body })),
  );
}

export function useRename(app: string, kind: KeptKind) {
  return useChange(({ number, name }: { number: number; name: string }) =>
    dataOf(
      api.PUT("/api/apps/{app}/kept/{kind}/{number}/name", {
        params: { path: { app, kind, number } },
        body: { name },
      }),
    ),
  );
}

export function useForget(app: string, kind: KeptKind) {
  return useChange((number: number) =>
    dataOf(
      api.DELETE("/api/apps/{app}/kept/{kind}/{number}", {
        params: { path: { app, kind, number } },
      }),
    ),
  );
}

interface TrendAsked extends Groups {
  measure: string;
  figure: string;
  timed: boolean;
  over?: "day" | "week";
}

/** A figure for each value of a property, or over time. */
export function useTrend(app: string, scope: Scope, asked: TrendAsked, enabled: boolean) {
  return useQuery({
    queryKey: ["study", app, "trend", scope, asked],
    queryFn: () =>
      dataOf(
        api.GET("/api/apps/{app}/trend", {
          params: { path: { app }, query: { ...scope, ...asked } },
        }),
      ),
    enabled,
    placeholderData: keepPreviousData,
  });
}

/** Two groups in all figures; what takes long is kept while others are asked for. */
export function useComparison(
  app: string,
  scope: Scope,
  sides: (Required<Pick<Groups, "one" | "other">> & Groups) | null,
) {
  return useQuery({
    queryKey: ["study", app, "compare", scope, sides],
    queryFn: () =>
      dataOf(
        api.GET("/api/apps/{app}/compare", {
          params: { path: { app }, query: { ...scope, ...(sides ?? { one: "", other: "" }) } },
        }),
      ),
    enabled: sides !== null,
    placeholderData: keepPreviousData,
  });
}

/** What stands out, as it is found: what is known is shown while more is asked. */
export function useFindings(app: string, scope: Scope) {
  const queries = useQueryClient();
  const queryKey = ["study", app, "findings", scope];
  return useQuery({
    queryKey,
    queryFn: async ({ signal }) => {
      const lines = api.GET("/api/apps/{app}/findings/stream", {
        params: { path: { app }, query: { ...scope } },
        parseAs: "stream",
        signal,
      });
      const tell = (told: Schemas["Findings"]) => queries.setQueryData(queryKey, told);
      const last = await lastLine(lines, tell);
      if (!last || last.asked < last.to_ask) {
        throw new Problem("The server's answer broke off.", 502, "It is asked again.");
      }
      return last;
    },
    placeholderData: keepPreviousData,
  });
}

/** What people kept or dismissed, with its value then and now. */
export function useKeptFindings(app: string) {
  return useQuery({
    queryKey: ["study", app, "kept-findings"],
    queryFn: () => dataOf(api.GET("/api/apps/{app}/kept-findings", { params: { path: { app } } })),
  });
}

/** A change of what is kept; nothing else is read anew for it. */
function useKeptChange<Input, Output>(app: string, change: (input: Input) => Promise<Output>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSettled: () => queries.invalidateQueries({ queryKey: ["study", app, "kept-findings"] }),
  });
}

export function useKeepFinding(app: string) {
  return useKeptChange(app, (body: Schemas["NewFinding"]) =>
    dataOf(api.PUT("/api/apps/{app}/kept-findings", { params: { path: { app } }, body })),
  );
}

type FindingChange = { number: number } & Partial<Schemas["FindingChange"]>;

export function useChangeFinding(app: string) {
  return useKeptChange(app, ({ number, ...body }: FindingChange) =>
    dataOf(
      api.PATCH("/api/apps/{app}/kept-findings/{number}", {
        params: { path: { app, number } },
        body,
      }),
    ),
  );
}

export function useForgetFinding(app: string) {
  return useKeptChange(app, (number: number) =>
    dataOf(
      api.DELETE("/api/apps/{app}/kept-findings/{number}", {
        params: { path: { app, number } },
      }),
    ),
  );
}

/** A property for whose values figures are asked too, and two of these to be compared. */
export interface Groups {
  by?: string;
  one?: string;
  other?: string;
}

type MeasurePath = Extract<keyof paths, `/api/apps/{app}/measures/${string}`>;
export type MeasureName = MeasurePath extends `${string}/measures/${infer Name}` ? Name : never;
/** The figures of a measure, of the whole scope and of each group. */
export type Measured<Name extends MeasureName> =
  paths[`/api/apps/{app}/measures/${Name}`]["get"]["responses"][200]["content"]["application/json"];
export type FiguresOf<Name extends MeasureName> = Measured<Name>["whole"];

interface Asked {
  /** The measure's own parameters. */
  params?: Record<string, string | number>;
  groups?: Groups;
}

/** Ask a measure: what it answers depends on its name alone. */
export function useMeasure<Name extends MeasureName>(
  app: string,
  measure: Name,
  scope: Scope,
  { params = {}, groups = {} }: Asked = {},
) {
  return useQuery({
    queryKey: ["study", app, "measure", measure, scope, params, groups],
    queryFn: () =>
      dataOf(
        api.GET(
          `/api/apps/{app}/measures/${measure}` as MeasurePath,
          { params: { path: { app }, query: { ...scope, ...params, ...groups } } } as never,
        ) as Promise<Answer<Measured<Name>>>,
      ),
    placeholderData: keepPreviousData,
  });
}
