/** Ways to share a prediction out among its features. */
export const METHODS = [
  { value: "auto", label: "by the best method that applies" },
  { value: "trees", label: "exactly, from the model's trees" },
  { value: "linear", label: "exactly, from the model's linear terms" },
  { value: "enumeration", label: "by enumeration (up to 12 features)" },
  { value: "sampled", label: "by sampling" },
  { value: "least squares", label: "by least squares over coalitions" },
  { value: "hierarchy", label: "along sets of associated features" },
];
