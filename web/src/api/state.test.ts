import { QueryClient } from "@tanstack/react-query";
import { expect, test, vi } from "vitest";
import type { Audit } from "./client";
import { heard, heardAnew } from "./state";

const ID = "00000000-0000-4000-8000-000000000001";
const told = (clock: number, tags: Record<string, string>) => ({
  state: Object.values(tags).join(""),
  basis: "b",
  tags,
  clock,
});
const shown = (client: QueryClient) => client.getQueryData<Audit>(["audit", ID]);

test("news that were overtaken on their way change nothing", () => {
  const asked = vi.fn(() => Promise.reject(new Error("nobody answers here")));
  vi.stubGlobal("fetch", asked);
  const client = new QueryClient();
  const first = told(10, { meaning: "m", found: "1", decisions: "d" });
  client.setQueryData(["audit", ID], { id: ID, ...first });
  heard(client, ID, first);
  // what the audit itself holds nothing of is taken over at once
  heard(client, ID, told(14, { meaning: "m", found: "2", decisions: "d" }));
  expect(shown(client)?.tags.found).toBe("2");
  // a slow answer tells of the state before
  heard(client, ID, told(12, { meaning: "m", found: "1", decisions: "e" }));
  expect(shown(client)).toMatchObject({ clock: 14, tags: { found: "2", decisions: "d" } });
  heard(client, ID, told(14, { meaning: "m", found: "1", decisions: "e" }));
  expect(shown(client)?.tags.found).toBe("2");
  expect(asked).not.toHaveBeenCalled();
  // after the server has begun anew, whatever its clock says is news
  heardAnew(ID);
  heard(client, ID, told(3, { meaning: "m", found: "7", decisions: "d" }));
  expect(shown(client)?.tags.found).toBe("7");
  vi.unstubAllGlobals();
});
