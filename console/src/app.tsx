/** Signed in or not, and which page. */
import { lazy, Suspense, useCallback, useEffect, useState } from "react";
import { Route, Switch, useLocation } from "wouter";
import { ask, ProblemError, type Person } from "./api";
import { ROUTES } from "./kinds";
import { Boundary } from "./boundary";
import { Problems } from "./parts/controls";
import { Session } from "./session";
import { Shell } from "./shell";
import { t } from "./text";

const Entrance = lazy(() => import("./pages/entrance"));
const OverviewPage = lazy(() => import("./pages/overview"));
const ServicesPage = lazy(() => import("./pages/services"));
const ServicePage = lazy(() => import("./pages/service"));
const BenchPage = lazy(() => import("./pages/bench"));
const SuitesPage = lazy(() => import("./pages/suites"));
const ContractTestsPage = lazy(() => import("./pages/contract-tests"));
const ReleasesPage = lazy(() => import("./pages/releases"));
const PoolsPage = lazy(() => import("./pages/pools"));
const AccessPage = lazy(() => import("./pages/access"));
const StartPage = lazy(() => import("./pages/start"));
const DefinitionsPage = lazy(() => import("./pages/definitions"));
const PackagesPage = lazy(() => import("./pages/packages"));
const RequestsPage = lazy(() => import("./pages/requests"));
const CallsPage = lazy(() => import("./pages/calls"));
const JobsPage = lazy(() => import("./pages/jobs"));

export function App() {
  const [person, setPerson] = useState<Person | null>();
  const [error, setError] = useState<ProblemError>();
  const [path] = useLocation();
  const look = useCallback(() => {
    ask<Person>("GET", "/session").then(setPerson, (failure: unknown) => {
      if (failure instanceof ProblemError && failure.status === 401) setPerson(null);
      else if (failure instanceof ProblemError) setError(failure);
    });
  }, []);
  useEffect(look, [look]);
  if (error && person === undefined)
    return (
      <div className="p-6">
        <Problems problems={error.problems} />
      </div>
    );
  if (person === undefined) return null;
  if (person === null)
    return (
      <Suspense>
        <Entrance onEnter={look} />
      </Suspense>
    );
  return (
    <Session.Provider value={person}>
      <Shell onLeave={() => setPerson(null)}>
        <Boundary key={path}>
          <Suspense>
            <Switch>
              <Route path="/services" component={ServicesPage} />
              <Route path="/services/:name">{({ name }) => <ServicePage name={decodeURIComponent(name)} />}</Route>
              <Route path="/tests/suites" component={SuitesPage} />
              <Route path="/tests/contract" component={ContractTestsPage} />
              <Route path="/tests" component={BenchPage} />
              <Route path="/releases" component={ReleasesPage} />
              <Route path="/pools" component={PoolsPage} />
              <Route path="/access" component={AccessPage} />
              <Route path="/start" component={StartPage} />
              {ROUTES.map((one) => (
                <Route key={one.path} path={one.path} component={one.page} />
              ))}
              <Route path="/definitions/packages" component={PackagesPage} />
              <Route path="/definitions/requests" component={RequestsPage} />
              <Route path="/definitions" component={DefinitionsPage} />
              <Route path="/calls" component={CallsPage} />
              <Route path="/jobs" component={JobsPage} />
              <Route path="/" component={OverviewPage} />
              <Route>
                <div className="px-5 py-4">
                  <h1 className="text-[20px] leading-6 font-semibold">{t("There is nothing at this address")}</h1>
                  <p className="mt-1">
                    <a className="act underline" href="/">
                      {t("Go to the overview")}
                    </a>
                  </p>
                </div>
              </Route>
            </Switch>
          </Suspense>
        </Boundary>
      </Shell>
    </Session.Provider>
  );
}
