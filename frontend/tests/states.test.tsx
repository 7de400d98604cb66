// @vitest-environment happy-dom
import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, expect, it } from "vitest";
import { Problem } from "../src/api/client";
import { Loading } from "../src/shell/states";

afterEach(cleanup);

function Page({ status }: { status: number }) {
  useQuery({
    queryKey: ["figure"],
    queryFn: () => Promise.reject(new Problem("3 of 8 parts are.", status, "It goes on.")),
    retry: true,
    retryDelay: 60_000,
  });
  return <Loading what="Asking" />;
}

function shown(status: number) {
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Page status={status} />
    </QueryClientProvider>,
  );
}

it("says why a figure is not there yet, where the server is to be asked again", async () => {
  shown(503);
  expect(screen.getByRole("status").textContent).toBe("Asking…");
  await screen.findByText("3 of 8 parts are. It goes on.");
});

it("leaves other troubles to those who tell them", async () => {
  shown(404);
  await new Promise((done) => setTimeout(done));
  expect(screen.getByRole("status").textContent).toBe("Asking…");
});
