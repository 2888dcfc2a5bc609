/** Every address of the application. */
import { type ComponentType, lazy, Suspense } from "react";
import { Navigate, Route, Routes as Router } from "react-router";
import { Bench } from "../bench/Bench";
import { NoSuchPage, Waiting } from "./Waiting";

/** A page that is loaded when it is first gone to. */
function page<Name extends string>(name: Name, load: () => Promise<Record<Name, ComponentType>>) {
  return lazy(() => load().then((found) => ({ default: found[name] })));
}

const Setup = page("Setup", () => import("../setup/Setup"));
const Prepare = page("Prepare", () => import("../stations/prepare/Prepare"));
const Tram = page("Tram", () => import("../stations/tram/Tram"));
const MeshStation = page("MeshStation", () => import("../stations/mesh/Mesh"));
const Offset = page("Offset", () => import("../stations/offset/Offset"));
const FirstLayer = page("FirstLayer", () => import("../stations/first-layer/FirstLayer"));
const Grades = page("Grades", () => import("../stations/first-layer/Grades"));
const Recipe = page("Recipe", () => import("../stations/first-layer/Recipe"));
const Placing = page("Placing", () => import("../stations/first-layer/Placing"));
const Logbook = page("Logbook", () => import("../logbook/Logbook"));
const Talk = page("Talk", () => import("../manner/Talk"));
const Network = page("Network", () => import("../network/Network"));
const Join = page("Join", () => import("../network/Join"));
const Wall = page("Wall", () => import("../bench/Wall"));
const Runs = page("Runs", () => import("../bench/Runs"));
const GoneBad = page("GoneBad", () => import("../logbook/GoneBad"));
const AfterChange = page("AfterChange", () => import("../logbook/AfterChange"));
const JobCheck = page("JobCheck", () => import("../job/JobCheck"));
const SignOff = page("SignOff", () => import("../stations/sign-off/SignOff"));
const Record = page("Record", () => import("../stations/sign-off/Record"));

export function Routes() {
  return (
    <Suspense fallback={<Waiting wrong={null} />}>
      <Router>
        <Route path="/" element={<Bench />} />
        <Route path="/setup" element={<Setup />} />
        <Route path="/network" element={<Network />} />
        <Route path="/wall" element={<Wall />} />
        <Route path="/runs" element={<Runs />} />
        <Route path="/join" element={<Join />} />
        <Route path="/machines/:machineId/logbook" element={<Logbook />} />
        <Route path="/machines/:machineId/gone-bad" element={<GoneBad />} />
        <Route path="/machines/:machineId/after-change" element={<AfterChange />} />
        <Route path="/machines/:machineId/job" element={<JobCheck />} />
        <Route path="/machines/:machineId/talk" element={<Talk />} />
        <Route path="/runs/:runId">
          <Route index element={<Navigate to="tram" replace />} />
          <Route path="prepare" element={<Prepare />} />
          <Route path="tram" element={<Tram />} />
          <Route path="mesh" element={<MeshStation />} />
          <Route path="offset" element={<Offset />} />
          <Route path="first_layer" element={<FirstLayer />} />
          <Route path="grades" element={<Grades />} />
          <Route path="recipe" element={<Recipe />} />
          <Route path="placing" element={<Placing />} />
          <Route path="sign_off" element={<SignOff />} />
          <Route path="record" element={<Record />} />
        </Route>
        <Route path="*" element={<NoSuchPage />} />
      </Router>
    </Suspense>
  );
}
