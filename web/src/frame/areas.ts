/** The areas of an audit, numbered as they stand; the number is the key. */
export const AREAS = [
  { key: "1", path: "intake", name: "Intake" },
  { key: "2", path: "data", name: "Data" },
  { key: "3", path: "drivers", name: "Drivers" },
  { key: "4", path: "response", name: "Response" },
  { key: "5", path: "cases", name: "Cases" },
  { key: "6", path: "pockets", name: "Pockets" },
  { key: "7", path: "tilt", name: "Tilt" },
  { key: "8", path: "remedies", name: "Remedies" },
  { key: "9", path: "report", name: "Report" },
] as const;
