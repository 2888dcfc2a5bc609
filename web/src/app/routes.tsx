/** Every address of the application. */
import { Navigate, Route, Routes as Router } from "react-router";
import { Bench } from "../bench/Bench";
import { Setup } from "../setup/Setup";
import { FirstLayer } from "../stations/first-layer/FirstLayer";
import { MeshStation } from "../stations/mesh/Mesh";
import { Offset } from "../stations/offset/Offset";
import { Prepare } from "../stations/prepare/Prepare";
import { Record } from "../stations/sign-off/Record";
import { SignOff } from "../stations/sign-off/SignOff";
import { Tram } from "../stations/tram/Tram";

export function Routes() {
  return (
    <Router>
      <Route path="/" element={<Bench />} />
      <Route path="/setup" element={<Setup />} />
      <Route path="/runs/:runId">
        <Route index element={<Navigate to="tram" replace />} />
        <Route path="prepare" element={<Prepare />} />
        <Route path="tram" element={<Tram />} />
        <Route path="mesh" element={<MeshStation />} />
        <Route path="offset" element={<Offset />} />
        <Route path="first_layer" element={<FirstLayer />} />
        <Route path="sign_off" element={<SignOff />} />
        <Route path="record" element={<Record />} />
      </Route>
      <Route path="*" element={<Navigate to="/" replace />} />
    </Router>
  );
}
