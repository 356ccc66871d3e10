import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router-dom";
import { App } from "./app";
import { Refused } from "./shared/api";
import "./index.css";

const queries = new QueryClient({
  defaultOptions: {
    // A refusal is an answer; only silence is worth asking again.
    queries: { staleTime: 1000, retry: (n, e) => e instanceof Refused && e.problem.status === 0 && n < 3 },
  },
});

createRoot(document.getElementById("root")!).render(
  <QueryClientProvider client={queries}>
    <BrowserRouter>
      <App />
    </BrowserRouter>
  </QueryClientProvider>,
);
