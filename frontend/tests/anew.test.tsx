// @vitest-environment happy-dom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, renderHook, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, expect, it, vi } from "vitest";
import { api } from "../src/api/client";
import { useApps, useLogs, useMappingPreview } from "../src/api/queries";

const patient = { timeout: 60_000 };

afterEach(cleanup);

const useAll = () => ({ apps: useApps(), logs: useLogs("a"), mapping: useMappingPreview(7, null) });

it("asks all anew when a first log has come in, but not how its file was to be read", async () => {
  const asked: string[] = [];
  let logs = 0;
  vi.spyOn(api, "GET").mockImplementation(async (path: string) => {
    asked.push(path);
    const data = path === "/api/apps" ? [{ key: "a", logs }] : {};
    return { data, response: Response.json(data) } as never;
  });
  const queries = new QueryClient();
  const wrapper = ({ children }: { children: ReactNode }) => (
    <QueryClientProvider client={queries}>{children}</QueryClientProvider>
  );
  const { result } = renderHook(useAll, { wrapper });
  await waitFor(() => {
    const { apps, logs, mapping } = result.current;
    expect([apps.isSuccess, logs.isSuccess, mapping.isSuccess]).toEqual([true, true, true]);
  }, patient);

  logs = 1;
  asked.length = 0;
  await result.current.apps.refetch();
  await waitFor(() => expect(asked).toContain("/api/apps/{app}/logs"), patient);
  expect(asked).toEqual(["/api/apps", "/api/apps/{app}/logs"]);
});
