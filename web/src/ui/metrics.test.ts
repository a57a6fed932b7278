import { expect, it } from "vitest";
import { writing, writingGap } from "./metrics";

it("writes a metric and a gap of it as the report does", () => {
  expect(writing("accuracy")(0.7561)).toBe("75.6%");
  expect(writing("mae", "crowns")(13956860.26)).toBe("13,956,860 crowns");
  expect(writing("auc")(0.83)).toBe("0.830");
  expect(writingGap("accuracy")(-0.046)).toBe("−4.6 points");
  expect(writingGap("class_share · now")(0.1)).toBe("+10.0 points");
  expect(writingGap("mae", "days")(0.5)).toBe("+0.5 days");
  expect(writingGap("auc")(0.02)).toBe("+0.020");
  expect(writingGap("auc")(-0.00001)).toBe("0.000");
});
