import { contours } from "d3-contour";
import { line } from "d3-shape";
import { heldAt } from "../ui/held";
import type { Cells, Result } from "./surfaceCells";

/** Lines of one value: found between grid points by their order, then laid where the points lie. */
export function contourLines(result: Result, x: Cells, y: Cells, value: number): string[] {
  const [wide, tall] = [x.known.length, y.known.length];
  if (wide < 2 || tall < 2) return [];
  const grid = y.known.flatMap((j) => x.known.map((i) => heldAt(heldAt(result.values, i), j)));
  const shape = contours().size([wide, tall]).smooth(true).contour(grid, value);
  const along = (cells: Cells, at: number) => {
    const clipped = Math.max(0, Math.min(cells.known.length - 1, at - 0.5));
    const before = Math.min(Math.floor(clipped), cells.known.length - 2);
    const [a, b] = [
      heldAt(cells.middle, heldAt(cells.known, before)),
      heldAt(cells.middle, heldAt(cells.known, before + 1)),
    ];
    return a + (b - a) * (clipped - before);
  };
  // rings run along the edge of the grid too; only what lies inside is a line of this value
  const edge = ([a = 0, b = 0]: number[]) => a <= 0.5 || b <= 0.5 || a >= wide - 0.5 || b >= tall - 0.5;
  const found: string[] = [];
  for (const ring of shape.coordinates.flat()) {
    let piece: [number, number][] = [];
    const flush = () => {
      if (piece.length > 1) found.push(line()(piece) ?? "");
      piece = [];
    };
    ring.forEach((point, place) => {
      const next = ring[place + 1];
      if (next && edge(point) && edge(next)) {
        piece.push([along(x, heldAt(point, 0)), along(y, heldAt(point, 1))]);
        flush();
      } else piece.push([along(x, heldAt(point, 0)), along(y, heldAt(point, 1))]);
    });
    flush();
  }
  return found;
}
export function ContourLine({ paths, label, strong }: { paths: string[]; label: string; strong: boolean }) {
  return (
    <g data-part={strong ? "boundary" : "contour"} pointerEvents="none">
      <title>{label}</title>
      {paths.map((path) => (
        <path
          key={path}
          d={path}
          fill="none"
          stroke="var(--ink)"
          strokeWidth={strong ? 2.6 : 0.7}
          opacity={strong ? 1 : 0.7}
        />
      ))}
    </g>
  );
}
/** Edges between cells in which different decisions are taken. */
export function Borders({ result, x, y }: { result: Result; x: Cells; y: Cells }) {
  const pieces: string[] = [];
  const differ = (a: [number, number], b: [number, number]) =>
    heldAt(result.decision, a[0])[a[1]] !== heldAt(result.decision, b[0])[b[1]];
  x.known.forEach((i, place) => {
    y.known.forEach((j, row) => {
      const next = x.known[place + 1];
      const above = y.known[row + 1];
      if (next !== undefined && differ([i, j], [next, j]))
        pieces.push(`M${heldAt(x.edges, i)[1]},${heldAt(y.edges, j)[0]}V${heldAt(y.edges, j)[1]}`);
      if (above !== undefined && differ([i, j], [i, above]))
        pieces.push(`M${heldAt(x.edges, i)[0]},${heldAt(y.edges, j)[1]}H${heldAt(x.edges, i)[1]}`);
    });
  });
  return (
    <path
      data-part="boundary"
      d={pieces.join("")}
      stroke="var(--ink)"
      strokeWidth={2.6}
      fill="none"
      pointerEvents="none"
    />
  );
}
