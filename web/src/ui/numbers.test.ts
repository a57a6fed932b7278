import { expect, it } from "vitest";
import written from "../api/numbers.cases.json";
import {
  beyondZero,
  day,
  decimal,
  difference,
  interval,
  output,
  percent,
  pValue,
  quantity,
  ratio,
  signed,
  step,
} from "./numbers";

it("writes shares, ratios and differences as people read them", () => {
  expect(percent(0.12345)).toBe("12.3%");
  expect(percent(-0.5)).toBe("−50.0%");
  expect(ratio(0.714)).toBe("0.71");
  expect(ratio(0.0456)).toBe("0.046");
  expect(signed(0.5, 1)).toBe("+0.5");
  expect(signed(-0.5, 1)).toBe("−0.5");
  expect(decimal(2 / 3)).toBe("0.667");
});

it("rounds halves to even, as the report does", () => {
  expect(decimal(0.0625, 3)).toBe("0.062");
  expect(decimal(0.1875, 3)).toBe("0.188");
});

it("gives quantities their unit and four digits", () => {
  expect(quantity(12.34567, "days")).toBe("12.35 days");
  expect(quantity(123456.7)).toBe("123,457");
  expect(quantity(-3)).toBe("−3");
});

it("reads outputs and steps on their scale", () => {
  expect(output(0.791, "probability")).toBe("79.1%");
  expect(output(1.234, "log-odds")).toBe("1.23");
  expect(output(8, "value", "days")).toBe("8 days");
  expect(step(-0.08, "probability")).toBe("−8.0");
  expect(step(2.5, "value")).toBe("+2.5");
  expect(difference(-0.2, "probability")).toBe("20.0 points");
});

it("says what was not tested or is not defined", () => {
  expect(pValue(null)).toBe("not tested");
  expect(pValue(0.0004)).toBe("below 0.001");
  expect(interval({ value: null, low: null, high: null }, percent)).toBe("not defined");
  expect(interval({ value: 0.5, low: 0.4, high: 0.6 }, percent)).toBe("40.0% to 60.0%");
});

it("knows an interval that leaves zero out", () => {
  expect(beyondZero({ value: 1, low: 0.1, high: 2 })).toBe(true);
  expect(beyondZero({ value: 1, low: 0, high: 2 })).toBe(false);
});

it("writes a day counted from 1970", () => expect(day(20_454)).toBe("2026-01-01"));

it.each(written)("writes $value as the core does", (one) => {
  expect(percent(one.value / 100)).toBe(one.percent);
  expect(decimal(one.value)).toBe(one.decimal);
  expect(decimal(one.value, 2)).toBe(one.two);
  expect(quantity(one.value, "days")).toBe(one.quantity);
  expect(difference(one.value, "probability")).toBe(one.difference);
  expect(ratio(Math.abs(one.value))).toBe(one.ratio);
});
