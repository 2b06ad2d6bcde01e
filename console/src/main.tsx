/** The console: places in a shell, behind a sign-in. */
import "@fontsource/atkinson-hyperlegible-mono/400.css";
import "@fontsource/atkinson-hyperlegible-mono/600.css";
import "@fontsource/atkinson-hyperlegible-next/400.css";
import "@fontsource/atkinson-hyperlegible-next/600.css";
import "@fontsource/atkinson-hyperlegible-next/700.css";
import "@mantine/core/styles.css";
import "./styles.css";
import { MantineProvider } from "@mantine/core";
import { QueryCache, QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { StrictMode, type ReactNode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { call, ServiceProblem, type Session } from "./api/call";
import { setCsrf } from "./api/session";
import { Arrivals } from "./places/Arrivals";
import { Desk } from "./places/Desk";
import { FlowPlace } from "./places/flows/FlowPlace";
import { Flows } from "./places/flows/Flows";
import { ItemPlace } from "./places/Item";
import { JudgedPlace } from "./places/judged/JudgedPlace";
import { QuestionPlace } from "./places/Question";
import { RecordTypePlace, RecordTypes } from "./places/setup/RecordTypes";
import { RecordPlace } from "./places/record/RecordPlace";
import { Records } from "./places/Records";
import { SignIn } from "./places/SignIn";
import { TrialPlace } from "./places/trials/TrialPlace";
import { Trials } from "./places/trials/Trials";
import { Today } from "./places/Today";
import { Problem } from "./parts/bits";
import { Shell } from "./parts/Shell";
import { colours, theme } from "./theme";

const refused = (error: Error): boolean => error instanceof ServiceProblem && error.status === 401;

const client: QueryClient = new QueryClient({
  queryCache: new QueryCache({
    onError: (error) => {
      if (refused(error)) void client.invalidateQueries({ queryKey: ["session"] });
    },
  }),
  defaultOptions: { queries: { retry: (tries, error) => tries < 2 && error instanceof ServiceProblem && error.status === 0, staleTime: 1000 } },
});

function House(): ReactNode {
  const session = useQuery({
    queryKey: ["session"],
    queryFn: async () => {
      try {
        const found = await call<Session>("GET", "/api/session");
        setCsrf(found.csrf);
        return found;
      } catch (error) {
        if (refused(error as Error)) return null;
        throw error;
      }
    },
    staleTime: 60_000,
  });
  if (session.error) return <Problem error={session.error} again={() => void session.refetch()} />;
  if (session.data === undefined) return null;
  if (session.data === null) {
    return (
      <SignIn
        signedIn={(found) => {
          setCsrf(found.csrf);
          client.setQueryData(["session"], found);
        }}
      />
    );
  }
  return (
    <Routes>
      <Route element={<Shell session={session.data} />}>
        <Route index element={<Navigate to="/today" replace />} />
        <Route path="today" element={<Today />} />
        <Route path="desk" element={<Desk />} />
        <Route path="arrivals" element={<Arrivals />} />
        <Route path="arrivals/:id" element={<ItemPlace />} />
        <Route path="records" element={<Records />} />
        <Route path="records/:id" element={<RecordPlace />} />
        <Route path="flows" element={<Flows />} />
        <Route path="flows/:name" element={<FlowPlace />} />
        <Route path="judged/:run" element={<JudgedPlace />} />
        <Route path="questions/:id" element={<QuestionPlace />} />
        <Route path="setup" element={<RecordTypes />} />
        <Route path="setup/record-types/:name" element={<RecordTypePlace />} />
        <Route path="setup/trials" element={<Trials />} />
        <Route path="setup/trials/:id" element={<TrialPlace />} />
        <Route path="*" element={<p>There is nothing at this address. Choose a place on the left.</p>} />
      </Route>
    </Routes>
  );
}

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <MantineProvider theme={theme} cssVariablesResolver={colours} defaultColorScheme="auto">
        <QueryClientProvider client={client}>
          <BrowserRouter>
            <House />
          </BrowserRouter>
        </QueryClientProvider>
      </MantineProvider>
    </StrictMode>,
  );
}
