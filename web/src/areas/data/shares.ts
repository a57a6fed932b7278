import { csvParseRows } from "d3-dsv";

/** Shares of groups by "column=group", from a small table with the columns column, group and share. */
export function sharesIn(
  text: string,
  columns: readonly string[],
): { shares: Record<string, number> } | { wrong: string } {
  // not into objects: that compiles a function, which the page's own policy forbids
  const [head = [], ...rows] = csvParseRows(text.replace(/^\uFEFF/, "").trim());
  const at = (row: string[], name: string) => (row[head.indexOf(name)] ?? "").trim();
  const missing = ["column", "group", "share"].filter((name) => !head.includes(name));
  if (missing.length) return { wrong: `The first line names no ${missing.join(", no ")}; it is column,group,share.` };
  const shares: Record<string, number> = {};
  for (const [place, row] of rows.entries()) {
    const [column, group, said] = [at(row, "column"), at(row, "group"), at(row, "share")];
    const share = said.endsWith("%") ? Number(said.slice(0, -1)) / 100 : Number(said);
    if (!columns.includes(column)) return { wrong: `Line ${place + 2}: “${column}” is no column that makes groups.` };
    if (!group) return { wrong: `Line ${place + 2}: no group is named.` };
    if (!said || !(share > 0 && share < 1))
      return { wrong: `Line ${place + 2}: “${said}” is no share; it is written as 0.35 or 35%.` };
    shares[`${column}=${group}`] = share;
  }
  return rows.length ? { shares } : { wrong: "The table has no rows." };
}
