import { expect, expectTypeOf, it } from "vitest";
import type { Client } from "../db/clients/clients";
import type { ClientId, DepotId, SourceId } from "./ids";

it("an id of one kind is refused where one of another kind is wanted", () => {
  const ofClient = (id: ClientId): string => id;
  const source: SourceId = "5a";
  // @ts-expect-error a source is no client
  expect(ofClient(source)).toBe("5a");
  expectTypeOf<Client["id"]>().toExtend<ClientId>();
  expectTypeOf<ClientId>().not.toExtend<DepotId>();
  // text from outside is not told apart yet
  expect(ofClient("c1")).toBe("c1");
});
