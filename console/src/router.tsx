import { createRootRoute, createRoute, createRouter, lazyRouteComponent, Outlet, redirect } from "@tanstack/react-router";
import { api } from "./api/client";
import { Shell } from "./parts/Shell";
import { Notice } from "./parts/Notice";
import { Certificates } from "./places/certificates/Certificates";
import { Attributes } from "./places/devices/Attributes";
import { DevicePage } from "./places/devices/DevicePage";
import { Devices } from "./places/devices/Devices";
import { readSearch as readDeviceSearch } from "./places/devices/devices";
import { NewDevice } from "./places/devices/NewDevice";
import { Decision } from "./places/journal/Decision";
import { type Filter, readFilter } from "./places/journal/entries";
import { Journal } from "./places/journal/Journal";
import { NasPage } from "./places/network/NasPage";
import { Network } from "./places/network/Network";
import { readNetworkSearch } from "./places/network/nases";
import { SitePage } from "./places/network/SitePage";
import { NewNas } from "./places/network/NewNas";
import { GroupPage } from "./places/people/GroupPage";
import { MachinePage, PersonPage } from "./places/people/AccountPage";
import { NewMachine, NewPerson } from "./places/people/NewAccount";
import { NewOutside } from "./places/people/NewOutside";
import { StorePage } from "./places/people/StorePage";
import { People } from "./places/people/People";
import { readSearch as readPeopleSearch } from "./places/people/people";
import { EditionPage } from "./places/policy/EditionPage";
import { Editions } from "./places/policy/Editions";
import { AdministratorPage } from "./places/settings/AdministratorPage";
import { Audit } from "./places/settings/Audit";
import { Change } from "./places/settings/Change";
import { Settings } from "./places/settings/Settings";
import { SignIn } from "./places/sign-in/SignIn";
import { Welcome } from "./places/sign-in/Welcome";
import { Today } from "./places/today/Today";
import { isSignedOut, queries, session } from "./queries";

/** Those of an address's words that are texts. */
function texts<Key extends string>(search: Record<string, unknown>, ...keys: Key[]): { [key in Key]?: string } {
  const found = keys.filter((key) => search[key] !== undefined && search[key] !== "");
  return Object.fromEntries(found.map((key) => [key, String(search[key])])) as { [key in Key]?: string };
}

const root = createRootRoute({
  component: Outlet,
  notFoundComponent: () => <Notice title="There is no such page" text="The rail on the left leads to all there is." />,
});

const signIn = createRoute({
  getParentRoute: () => root,
  path: "/sign-in",
  component: SignIn,
  validateSearch: (search): { back?: string } =>
    // A path of ours, and not an address that only begins like one.
    typeof search.back === "string" && /^\/(?![/\\])/.test(search.back) ? { back: search.back } : {},
});

const signOut = createRoute({
  getParentRoute: () => root,
  path: "/sign-out",
  beforeLoad: async () => {
    await api.POST("/api/v1/sign-out");
    queries.clear();
    throw redirect({ to: "/sign-in" });
  },
  errorComponent: ({ error }) => (
    <Notice title="You are still signed in" text={error instanceof Error ? error.message : String(error)} />
  ),
});

const welcome = createRoute({ getParentRoute: () => root, path: "/welcome", component: Welcome });

const inside = createRoute({
  getParentRoute: () => root,
  id: "inside",
  component: Shell,
  beforeLoad: async ({ location }) => {
    try {
      await queries.ensureQueryData(session);
    } catch (error) {
      if (isSignedOut(error)) throw redirect({ to: "/sign-in", search: { back: location.href } });
      throw error;
    }
  },
  errorComponent: ({ error }) => (
    <Notice title="Nothing can be shown" text={error instanceof Error ? error.message : String(error)} />
  ),
});

const start = createRoute({
  getParentRoute: () => inside,
  path: "/",
  beforeLoad: () => {
    throw redirect({ to: "/today" });
  },
});

const today = createRoute({ getParentRoute: () => inside, path: "/today", component: Today });

const journal = createRoute({
  getParentRoute: () => inside,
  path: "/journal",
  component: Journal,
  validateSearch: (search): Filter => readFilter(search),
});

const decision = createRoute({ getParentRoute: () => inside, path: "/journal/$id", component: Decision });

const policy = createRoute({
  getParentRoute: () => inside,
  path: "/policy",
  // The editor is loaded when it is opened.
  component: lazyRouteComponent(() => import("./places/policy/text/TextPage"), "TextPage"),
  validateSearch: (search): { file?: string; line?: number; keep?: string } => ({
    ...texts(search, "file", "keep"),
    ...(typeof search.line === "number" ? { line: search.line } : {}),
  }),
});

const gates = createRoute({
  getParentRoute: () => inside,
  path: "/policy/gates",
  component: lazyRouteComponent(() => import("./places/policy/gates/GatesPage"), "GatesPage"),
  validateSearch: (search): { gate?: string; q?: string } => texts(search, "gate", "q"),
});

const compose = createRoute({
  getParentRoute: () => inside,
  path: "/policy/compose",
  component: lazyRouteComponent(() => import("./places/policy/compose/ComposePage"), "ComposePage"),
  validateSearch: (search): { gate?: string; entry?: string } => texts(search, "gate", "entry"),
});

const whatIf = createRoute({
  getParentRoute: () => inside,
  path: "/policy/what-if",
  component: lazyRouteComponent(() => import("./places/policy/whatif/WhatIfPage"), "WhatIfPage"),
  validateSearch: (search): { entry?: string; facts?: string } => texts(search, "entry", "facts"),
});

const changes = createRoute({
  getParentRoute: () => inside,
  path: "/policy/changes",
  component: lazyRouteComponent(() => import("./places/policy/changes/ChangesPage"), "ChangesPage"),
  validateSearch: (search): { activated?: number; replaced?: number } => ({
    ...(typeof search.activated === "number" ? { activated: search.activated } : {}),
    ...(typeof search.replaced === "number" ? { replaced: search.replaced } : {}),
  }),
});

const begin = createRoute({
  getParentRoute: () => inside,
  path: "/policy/begin",
  component: lazyRouteComponent(() => import("./places/policy/begin/BeginPage"), "BeginPage"),
});

const editions = createRoute({ getParentRoute: () => inside, path: "/policy/editions", component: Editions });

const edition = createRoute({ getParentRoute: () => inside, path: "/policy/editions/$number", component: EditionPage });

const network = createRoute({
  getParentRoute: () => inside,
  path: "/network",
  component: Network,
  validateSearch: readNetworkSearch,
});

const newNas = createRoute({
  getParentRoute: () => inside,
  path: "/network/new",
  component: NewNas,
  validateSearch: (search): { address?: string; name?: string; kind?: string } => texts(search, "address", "name", "kind"),
});

const nas = createRoute({ getParentRoute: () => inside, path: "/network/$name", component: NasPage });

const site = createRoute({ getParentRoute: () => inside, path: "/network/sites/$name", component: SitePage });

const people = createRoute({
  getParentRoute: () => inside,
  path: "/people",
  component: People,
  validateSearch: readPeopleSearch,
});

const group = createRoute({ getParentRoute: () => inside, path: "/people/groups/$name", component: GroupPage });

const newOutside = createRoute({
  getParentRoute: () => inside,
  path: "/people/stores/new",
  component: NewOutside,
  validateSearch: (search): { kind: "directory" | "http" } => ({ kind: search.kind === "http" ? "http" : "directory" }),
});

const store = createRoute({ getParentRoute: () => inside, path: "/people/stores/$name", component: StorePage });

const newPerson = createRoute({ getParentRoute: () => inside, path: "/people/new", component: NewPerson });

const person = createRoute({ getParentRoute: () => inside, path: "/people/$store/$name", component: PersonPage });

const newMachine = createRoute({ getParentRoute: () => inside, path: "/machines/new", component: NewMachine });

const machine = createRoute({ getParentRoute: () => inside, path: "/machines/$store/$name", component: MachinePage });

const devices = createRoute({
  getParentRoute: () => inside,
  path: "/devices",
  component: Devices,
  validateSearch: readDeviceSearch,
});

const newDevice = createRoute({
  getParentRoute: () => inside,
  path: "/devices/new",
  component: NewDevice,
  validateSearch: (search): { mac?: string } => (typeof search.mac === "string" ? { mac: search.mac } : {}),
});

const deviceAttributes = createRoute({ getParentRoute: () => inside, path: "/devices/attributes", component: Attributes });

const device = createRoute({ getParentRoute: () => inside, path: "/devices/$store/$mac", component: DevicePage });

const settings = createRoute({ getParentRoute: () => inside, path: "/settings", component: Settings });

const administrator = createRoute({
  getParentRoute: () => inside,
  path: "/settings/administrators/$name",
  component: AdministratorPage,
});

const audit = createRoute({
  getParentRoute: () => inside,
  path: "/settings/audit",
  component: Audit,
  validateSearch: (search): { q?: string } => (search.q ? { q: String(search.q) } : {}),
});

const change = createRoute({ getParentRoute: () => inside, path: "/settings/audit/$revision", component: Change });

const certificates = createRoute({ getParentRoute: () => inside, path: "/certificates", component: Certificates });

export const router = createRouter({
  routeTree: root.addChildren([
    signIn,
    signOut,
    welcome,
    inside.addChildren([
      start,
      today,
      journal,
      decision,
      policy,
      gates,
      compose,
      whatIf,
      changes,
      begin,
      editions,
      edition,
      network,
      newNas,
      nas,
      site,
      people,
      group,
      newOutside,
      store,
      newPerson,
      person,
      newMachine,
      machine,
      devices,
      newDevice,
      deviceAttributes,
      device,
      certificates,
      settings,
      administrator,
      audit,
      change,
    ]),
  ]),
  scrollRestoration: true,
});

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
