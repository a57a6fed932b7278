/** The areas of an audit, numbered as they stand; the number is the key. */
export const AREAS = [
  { key: "1", path: "intake", name: "Intake" },
  { key: "2", path: "drivers", name: "Drivers" },
  { key: "3", path: "response", name: "Response" },
  { key: "4", path: "cases", name: "Cases" },
  { key: "5", path: "tilt", name: "Tilt" },
  { key: "6", path: "report", name: "Report" },
] as const;
