/** Every address of the application. */
import type { ComponentType } from "react";
import { Navigate, Outlet, type RouteObject } from "react-router";
import { Bench } from "../bench/Bench";
import { Connection } from "../network/Connection";
import { KeyBoard } from "./keys";
import { Broken, NoSuchPage, Waiting } from "./Waiting";

/** A page that is loaded when it is first gone to; what was shown stays until it is there. */
function page<Name extends string>(path: string, name: Name, load: () => Promise<Record<Name, ComponentType>>) {
  return { path, lazy: async () => ({ Component: (await load())[name] }) };
}

function Around() {
  return (
    <KeyBoard>
      <Connection />
      <Outlet />
    </KeyBoard>
  );
}

export const ROUTES: RouteObject[] = [
  {
    Component: Around,
    ErrorBoundary: Broken,
    HydrateFallback: () => <Waiting wrong={null} />,
    children: [
      { path: "/", Component: Bench },
      page("/setup", "Setup", () => import("../setup/Setup")),
      page("/network", "Network", () => import("../network/Network")),
      page("/wall", "Wall", () => import("../bench/Wall")),
      page("/runs", "Runs", () => import("../bench/Runs")),
      page("/join", "Join", () => import("../network/Join")),
      {
        path: "/machines/:machineId",
        children: [
          { index: true, element: <Navigate to="logbook" replace /> },
          page("logbook", "Logbook", () => import("../logbook/Logbook")),
          page("gone-bad", "GoneBad", () => import("../logbook/GoneBad")),
          page("after-change", "AfterChange", () => import("../logbook/AfterChange")),
          page("job", "JobCheck", () => import("../job/JobCheck")),
          page("talk", "Talk", () => import("../manner/Talk")),
        ],
      },
      {
        path: "/runs/:runId",
        children: [
          { index: true, element: <Navigate to="tram" replace /> },
          page("prepare", "Prepare", () => import("../stations/prepare/Prepare")),
          page("tram", "Tram", () => import("../stations/tram/Tram")),
          page("mesh", "MeshStation", () => import("../stations/mesh/Mesh")),
          page("offset", "Offset", () => import("../stations/offset/Offset")),
          page("first_layer", "FirstLayer", () => import("../stations/first-layer/FirstLayer")),
          page("grades", "Grades", () => import("../stations/first-layer/Grades")),
          page("recipe", "Recipe", () => import("../stations/first-layer/Recipe")),
          page("placing", "Placing", () => import("../stations/first-layer/Placing")),
          page("sign_off", "SignOff", () => import("../stations/sign-off/SignOff")),
          page("record", "Record", () => import("../stations/sign-off/Record")),
        ],
      },
      { path: "*", Component: NoSuchPage },
    ],
  },
];
