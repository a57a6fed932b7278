import { expect, test } from "vitest";
import { type Input, placeOf } from "./inputs";

const inputs: Input[] = [
  {
    name: "distances",
    title: "List of distances",
    words: "a list of distances",
    files: [".km", ".miles.json"],
    use: "",
  },
];

test("a dropped file goes where its name says, in capitals too; what nobody claims is the table", () => {
  expect(placeOf("areas.KM", inputs)).toBe("inputs/distances");
  expect(placeOf("areas.miles.json", inputs)).toBe("inputs/distances");
  expect(placeOf("areas.json", inputs)).toBe("table");
  expect(placeOf("v3.ONNX", inputs)).toBe("models");
  expect(placeOf("claims.km.csv", inputs)).toBe("table");
  expect(placeOf("areas.km", [])).toBe("table");
  expect(placeOf("v3.sum", [], [".onnx", ".sum"])).toBe("models");
});
