import "@fontsource-variable/source-sans-3";
import "./theme.scss";
import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { App } from "./App";
import { Problem } from "./api/client";

/** Whoever was in is in no more: the gate is shown. */
function onProblem(problem: Error) {
  if (problem instanceof Problem && problem.status === 401) {
    queries.invalidateQueries({ queryKey: ["me"] });
  }
}

const queries = new QueryClient({
  queryCache: new QueryCache({ onError: onProblem }),
  mutationCache: new MutationCache({ onError: onProblem }),
  defaultOptions: {
    queries: {
      staleTime: 60_000,
      refetchOnWindowFocus: false,
      // The database may be down for a while: ask again until it is back.
      retry: (_, problem) =>
        problem.message !== "" && "status" in problem && problem.status === 503,
      retryDelay: 3_000,
    },
  },
});

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
}
