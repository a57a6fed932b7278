/** The areas of an audit that this version has, under the numbers they keep. */
export const AREAS = [
  { key: "1", path: "intake", name: "Intake" },
  { key: "3", path: "drivers", name: "Drivers" },
  { key: "4", path: "response", name: "Response" },
  { key: "5", path: "cases", name: "Cases" },
  { key: "7", path: "tilt", name: "Tilt" },
  { key: "0", path: "report", name: "Report" },
] as const;
