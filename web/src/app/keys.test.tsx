import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { KeyBoard, useKeys, useShownKeys } from "./keys";

afterEach(cleanup);

function Station({ run, stop }: { run: (key: string) => void; stop?: () => void }) {
  useKeys([
    { keys: ["1", "2"], cap: "1 2", does: "feel", run },
    { keys: ["Escape"], cap: "Esc", does: "stop", run: stop ?? run, everywhere: true },
  ]);
  return <input aria-label="count" />;
}

function Foot() {
  return <p>{useShownKeys().map((k) => k.does)}</p>;
}

test("a key does what its station says, and the foot shows it", () => {
  const run = vi.fn();
  const { unmount } = render(
    <KeyBoard>
      <Station run={run} />
      <Foot />
    </KeyBoard>,
  );
  fireEvent.keyDown(document.body, { key: "2" });
  expect(run).toHaveBeenCalledWith("2");
  expect(screen.getByText("feelstop")).toBeTruthy();
  unmount();
  fireEvent.keyDown(document.body, { key: "2" });
  expect(run).toHaveBeenCalledTimes(1);
});

test("what is typed is typed; only what stops a machine works everywhere", () => {
  const run = vi.fn();
  const stop = vi.fn();
  render(
    <KeyBoard>
      <Station run={run} stop={stop} />
    </KeyBoard>,
  );
  fireEvent.keyDown(screen.getByLabelText("count"), { key: "1" });
  expect(run).not.toHaveBeenCalled();
  fireEvent.keyDown(screen.getByLabelText("count"), { key: "Escape" });
  expect(stop).toHaveBeenCalledTimes(1);
});

test("a letter in a field for a number is the shortcut that the foot names, and is never typed", () => {
  const run = vi.fn();
  function Reading() {
    useKeys([{ keys: ["p"], cap: "P", does: "practice reads", run }]);
    return <input aria-label="mm" inputMode="decimal" />;
  }
  render(
    <KeyBoard>
      <Reading />
    </KeyBoard>,
  );
  const field = screen.getByLabelText("mm");
  expect(fireEvent.keyDown(field, { key: "p" })).toBe(false);
  expect(run).toHaveBeenCalledTimes(1);
  expect(fireEvent.keyDown(field, { key: "x" })).toBe(false);
  for (const key of ["1", ",", ".", "-", "Backspace"]) expect(fireEvent.keyDown(field, { key })).toBe(true);
});

test("the browser's own shortcuts stay its own", () => {
  const run = vi.fn();
  render(
    <KeyBoard>
      <Station run={run} />
    </KeyBoard>,
  );
  fireEvent.keyDown(document.body, { key: "1", ctrlKey: true });
  expect(run).not.toHaveBeenCalled();
});
