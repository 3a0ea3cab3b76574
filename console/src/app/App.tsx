/** The frame around every page: name, pages, dataset, appearance. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { Button as RacButton, Label, ListBox, Select, SelectValue } from "react-aria-components";
import { NavLink, Navigate, Route, Routes, useLocation } from "react-router";
import styled from "styled-components";

import { CallError, signOut } from "../api/client";
import { datasetsQuery, OWN, sessionQuery } from "../api/queries";
import type { CallerInfo } from "../api/types";
import { ArrivalsPage } from "../features/arrivals/ArrivalsPage";
import { CataloguePage } from "../features/catalogue/CataloguePage";
import { OverviewPage } from "../features/overview/OverviewPage";
import { Menu, MenuItem } from "../ui/Chooser";
import { Button, current, Faint, Page, Waiting } from "../ui/parts";
import { readPlace, usePlace, writePlace } from "../frame/address";
import { useAppearance } from "./Appearance";
import { Boundary } from "./Boundary";
import { SignIn } from "./SignIn";

const AskPage = lazy(() => import("../features/ask/AskPage"));
const AccessPage = lazy(() => import("../features/access/AccessPage"));
const SendingPage = lazy(() => import("../features/sending/SendingPage"));
const KeepingPage = lazy(() => import("../features/keeping/KeepingPage"));

const Bar = styled.header`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 24px;
  padding: 8px 24px;
  border-bottom: 1px solid ${({ theme }) => theme.rule};
  background: ${({ theme }) => theme.sheet};
`;

const Name = styled.span`
  font-weight: 700;
  letter-spacing: 0.02em;
  display: flex;
  align-items: center;
  gap: 8px;
`;

const Links = styled.nav`
  display: flex;
  gap: 4px;
  flex: 1;
  a {
    padding: 4px 12px;
    text-decoration: none;
    color: ${({ theme }) => theme.ink};
    border-bottom: 2px solid transparent;
  }
  a.active {
    ${current}
  }
`;

const Skip = styled.a`
  position: absolute;
  left: -999px;
  &:focus {
    left: 8px;
    top: 8px;
    background: ${({ theme }) => theme.sheet};
    padding: 4px 12px;
    z-index: 2;
  }
`;

const Picker = styled(RacButton)`
  font: inherit;
  height: 28px;
  padding: 3px 12px;
  color: inherit;
  background: ${({ theme }) => theme.sheet};
  border: 1px solid ${({ theme }) => theme.faint};
  border-radius: 2px;
  cursor: pointer;
`;

const Picking = styled(Select)`
  display: flex;
  align-items: center;
  gap: 8px;
  label {
    color: ${({ theme }) => theme.faint};
  }
` as typeof Select;

const PAGES = [
  { path: "/", name: "Overview" },
  { path: "/arrivals", name: "Arrivals" },
  { path: "/catalogue", name: "Catalogue" },
  { path: "/keeping", name: "Keeping" },
  { path: "/ask", name: "Ask" },
  { path: "/sending", name: "Sending" },
  { path: "/access", name: "Access" },
];

/** The pages for a signed-in caller, and otherwise the sign-in form. */
export function App() {
  const { data: caller, error, refetch } = useQuery(sessionQuery);
  if (error instanceof CallError && error.problem?.status === 401) return <SignIn />;
  if (!caller) {
    return (
      <Page id="main">
        <Waiting error={error} retry={refetch} />
      </Page>
    );
  }
  return <Pages caller={caller} />;
}

function Session({ caller }: { caller: CallerInfo }) {
  const queries = useQueryClient();
  const leave = useMutation({ mutationFn: signOut, onSettled: () => queries.resetQueries() });
  if (caller.kind !== "session") return null;
  return (
    <>
      <Faint>{caller.who}</Faint>
      <Button $quiet onPress={() => leave.mutate()}>
        Sign out
      </Button>
    </>
  );
}

function Pages({ caller }: { caller: CallerInfo }) {
  const [place, change] = usePlace();
  const location = useLocation();
  const { data: datasets = [] } = useQuery(datasetsQuery);
  const appearance = useAppearance();
  // Without one in the address, the dataset with most points is what somebody wants to see.
  const theirs = datasets.filter((one) => one.name !== OWN);
  const fullest = theirs.reduce(
    (best, one) => (best === undefined || one.points > best.points ? one : best),
    theirs[0] ?? datasets[0],
  );
  const dataset = datasets.find((one) => one.name === place.dataset) ?? fullest;
  const carried = writePlace(readPlace(new URLSearchParams(location.search))).toString();
  return (
    <>
      <Skip href="#main">Skip to content</Skip>
      <Bar>
        <Name>
          <img src="/icon.svg" alt="" width={20} height={20} />
          Fenetre
        </Name>
        <Links aria-label="Pages">
          {PAGES.map(({ path, name }) => (
            <NavLink key={path} to={{ pathname: path, search: carried }} end>
              {name}
            </NavLink>
          ))}
        </Links>
        {dataset && (
          <Picking
            selectedKey={dataset.name}
            onSelectionChange={(key) => key !== null && change({ dataset: String(key) })}
          >
            <Label>dataset</Label>
            <Picker>
              <SelectValue /> <span aria-hidden>▾</span>
            </Picker>
            <Menu>
              <ListBox items={datasets.map((one) => ({ id: one.name }))}>
                {(one) => <MenuItem>{one.id}</MenuItem>}
              </ListBox>
            </Menu>
          </Picking>
        )}
        <Session caller={caller} />
        <Button $quiet onPress={appearance.toggle}>
          {appearance.name === "light" ? "Dark" : "Light"}
        </Button>
      </Bar>
      <Page id="main">
        <Boundary key={location.pathname}>
          <Suspense fallback={<p>Loading …</p>}>
            <Routes>
              <Route path="/" element={<OverviewPage />} />
              <Route path="/ask" element={dataset ? <AskPage dataset={dataset} /> : <p>Loading …</p>} />
              <Route path="/arrivals" element={dataset ? <ArrivalsPage dataset={dataset} /> : <p>Loading …</p>} />
              <Route path="/catalogue" element={dataset ? <CataloguePage dataset={dataset} /> : <p>Loading …</p>} />
              <Route path="/keeping" element={dataset ? <KeepingPage dataset={dataset} /> : <p>Loading …</p>} />
              <Route path="/sending" element={dataset ? <SendingPage dataset={dataset.name} /> : <p>Loading …</p>} />
              <Route path="/access" element={<AccessPage />} />
              <Route path="*" element={<Navigate to="/" replace />} />
            </Routes>
          </Suspense>
        </Boundary>
      </Page>
    </>
  );
}
