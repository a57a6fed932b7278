import { expect, test } from "vitest";
import { sharesIn } from "./shares";

const COLUMNS = ["home_area", "age_band"];

test("shares are read as parts of one or in percent, names with commas among them", () => {
  const text = '\uFEFFcolumn,group,share\nhome_area,outer isles,35%\nage_band,"70, and over",0.2\n';
  expect(sharesIn(text, COLUMNS)).toEqual({ shares: { "home_area=outer isles": 0.35, "age_band=70, and over": 0.2 } });
});

test.each([
  ["group,share\na,1", "names no column"],
  ["column,group,share\nx,a,0.2", "Line 2: “x” is no column that makes groups."],
  ["column,group,share\nhome_area,,0.2", "no group is named"],
  ["column,group,share\nhome_area,a,35", "“35” is no share"],
  ["column,group,share\nhome_area,a,", "is no share"],
  ["column,group,share\n", "The table has no rows."],
])("what is wrong in a file is said with its line: %s", (text, said) => {
  const found = sharesIn(text, COLUMNS);
  expect("wrong" in found && found.wrong).toContain(said);
});
