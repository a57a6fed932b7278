import { describe, expect, it } from "vitest";
import { declared } from "./methods";
import METHODS from "./methods.json";
import { addressOf, settingsOf } from "./settings";

const search = (written: Record<string, string | null>) =>
  new URLSearchParams(Object.entries(written).filter((one): one is [string, string] => one[1] !== null));

/** A value that is not the first one, for every kind of setting. */
function other(setting: {
  kind: string;
  of?: string;
  values?: string[];
  least?: number;
  most?: number;
  default?: unknown;
}): unknown {
  if (setting.values) return setting.values.find((one) => one !== setting.default);
  if (setting.kind === "boolean") return !setting.default;
  if (setting.kind === "integer") return setting.most === 3 ? 1 : Number(setting.default ?? setting.least ?? 0) + 3;
  const usual = Number(setting.default ?? 0);
  if (setting.kind === "number") return usual + (usual + 0.125 > (setting.most ?? Infinity) ? -0.125 : 0.125);
  if (setting.kind === "object") return setting.of === "number" ? { "a=b, c": 0.25 } : { "a,b & c": "5%", ф: "" };
  if (setting.kind === "string") return "a · b, c=d&e";
  if (setting.of === "string") return ["one, two", "50%", "a%2Cb", "ф"];
  return setting.of === "number" ? [5, 95.5] : [{ attribute: "a · b", group: 'c"d' }];
}

describe("settings in the address", () => {
  const names = Object.keys(METHODS) as (keyof typeof METHODS)[];

  it.each(names)("of %s are read as they were written", (method) => {
    const all = Object.entries(declared(method).settings);
    const settings = Object.fromEntries(all.map(([name, setting]) => [name, other(setting)]));
    expect(settingsOf(method, search(addressOf(method, settings)))).toEqual(settings);
    for (const [name] of all) {
      const one = { [name]: settings[name] };
      expect(settingsOf(method, search(addressOf(method, one)))).toEqual(one);
    }
  });

  it.each(names)("of %s have names of their own, and none of the context's", (method) => {
    const taken = Object.values(declared(method).settings).map((one) => one.address);
    expect(new Set(taken).size).toBe(taken.length);
    for (const name of ["model", "rows", "as", "class", "beside", "part", "view"]) expect(taken).not.toContain(name);
  });

  it("are left out where they are as at first", () => {
    expect(addressOf("response", { points: 40, percentiles: [1, 99], low: null, centred: false })).toEqual({
      points: null,
      range: null,
      from: null,
      centred: null,
    });
    expect(settingsOf("response", search({ points: "40", feature: "" }))).toEqual({});
  });

  it.each([
    "points=1&curves=99999&case=-1",
    "points=many&from=&to=NaN&range=a,b&edits=[1]&case=-2",
    "edits=%7B&points=3.5&case=1e3",
    'edits={"a":1}&range=&from=Infinity',
  ])("that make no sense are passed over: %s", (text) => {
    expect(settingsOf("response", new URLSearchParams(text))).toEqual({});
  });

  it("hold a choice among those there are", () => {
    expect(settingsOf("cases", search({ which: "nowhere", order: "score" }))).toEqual({ order: "score" });
    expect(settingsOf("lattice", search({ cross: "a,%zz,b" }))).toEqual({ columns: ["a", "%zz", "b"] });
  });

  it("of a method that this version does not know are none", () => {
    expect(addressOf("no_such_method", { feature: "x" })).toEqual({});
  });
});
