import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { act, cleanup, render, screen, waitFor } from "@testing-library/react";
import { MemoryRouter, useLocation } from "react-router";
import { afterEach, expect, test } from "vitest";
import { Refusal } from "../api/client";
import { Connection } from "./Connection";

afterEach(cleanup);

const lost = new Refusal({ code: "no_answer", message: "The server does not answer.", insist: false });
const shutOut = new Refusal({ code: "not_let_in", message: "Not let in.", insist: false });

let says: () => Promise<string>;

function Asking() {
  useQuery({ queryKey: ["asked"], queryFn: () => says() });
  return <p>at {useLocation().pathname}</p>;
}

function page() {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  render(
    <QueryClientProvider client={client}>
      <MemoryRouter initialEntries={["/machines"]}>
        <Connection />
        <Asking />
      </MemoryRouter>
    </QueryClientProvider>,
  );
  return client;
}

test("a server that does not answer is said, and no more once it does", async () => {
  says = () => Promise.resolve("here");
  const client = page();
  await waitFor(() => expect(client.isFetching()).toBe(0));
  expect(screen.queryByRole("status")).toBeNull();
  says = () => Promise.reject(lost);
  await act(() => client.refetchQueries());
  expect((await screen.findByRole("status")).textContent).toContain("It is asked again");
  says = () => Promise.resolve("back");
  await act(() => client.refetchQueries());
  await waitFor(() => expect(screen.queryByRole("status")).toBeNull());
});

test("a refusal is no lost connection", async () => {
  says = () => Promise.reject(new Refusal({ code: "unknown_id", message: "Nobody.", insist: false }));
  const client = page();
  await waitFor(() => expect(client.isFetching()).toBe(0));
  expect(screen.queryByRole("status")).toBeNull();
  expect(screen.getByText("at /machines")).toBeTruthy();
});

test("what waits to be sent is said to wait", async () => {
  says = () => Promise.resolve("here");
  const client = page();
  let back = () => {};
  let tries = 0;
  act(() => {
    client
      .getMutationCache()
      .build(client, {
        mutationFn: () => {
          tries += 1;
          return tries === 1 ? Promise.reject(lost) : new Promise<void>((done) => (back = done));
        },
        retry: true,
        retryDelay: 5,
      })
      .execute(undefined);
  });
  expect((await screen.findByRole("status")).textContent).toContain("sent once it is back");
  await waitFor(() => expect(tries).toBe(2));
  await act(async () => back());
  await waitFor(() => expect(screen.queryByRole("status")).toBeNull());
});

test("a device that is not let in is taken to where it types its code", async () => {
  says = () => Promise.reject(shutOut);
  page();
  await screen.findByText("at /join");
});
