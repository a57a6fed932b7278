import { describe, expect, it } from "vitest";
import { type Box, chosenBy, nearestTo, packed, paint, spread, within } from "./dots";

const square = [
  [0, 0],
  [10, 0],
  [10, 10],
  [0, 10],
] as const;

describe("dots", () => {
  it("knows what lies within a ring, also one that turns back into itself", () => {
    expect(within(5, 5, square)).toBe(true);
    expect(within(11, 5, square)).toBe(false);
    const bent = [...square, [5, 5] as const];
    expect(within(1, 5, bent)).toBe(false);
    expect(within(8, 5, bent)).toBe(true);
  });
  it("chooses by force what a ring holds, and nothing hidden", () => {
    const n = 500;
    const xs = Float32Array.from({ length: n }, (_, i) => (i * 7) % 23);
    const ys = Float32Array.from({ length: n }, (_, i) => (i * 11) % 29);
    const shown = Uint8Array.from({ length: n }, (_, i) => (i % 3 ? 1 : 0));
    const ring = [
      [2.5, 1.5],
      [20.5, 4.5],
      [11.5, 25.5],
    ] as const;
    const expected = [...xs.keys()].filter((i) => shown[i] && within(xs[i] as number, ys[i] as number, ring));
    expect(chosenBy(ring, xs, ys, shown)).toEqual(expected);
    expect(expected.length).toBeGreaterThan(20);
  });
  it("finds the nearest dot within reach", () => {
    const [xs, ys] = [Float32Array.of(0, 5, 100), Float32Array.of(0, 5, 100)];
    expect(nearestTo(4, 4, xs, ys, Uint8Array.of(1, 1, 1))).toBe(1);
    expect(nearestTo(4, 4, xs, ys, Uint8Array.of(1, 0, 1))).toBe(0);
    expect(nearestTo(50, 50, xs, ys, Uint8Array.of(1, 1, 1))).toBe(-1);
  });
  it("paints within its panel alone, the chosen in ink", () => {
    const picture = { width: 20, height: 10, data: new Uint8ClampedArray(800) } as unknown as ImageData;
    const boxes: Box[] = [{ left: 0, top: 0, width: 10, height: 10 }];
    const [xs, ys] = [Float32Array.of(9, 3), Float32Array.of(5, 5)];
    const ink = packed("#22302f");
    const dots = [boxes, Uint8Array.of(0, 0), xs, ys, Uint8Array.of(0, 0), Uint8Array.of(1, 1)] as const;
    paint(picture, ...dots, Uint8Array.of(0, 1), [packed("#0e6b5c")], ink, 1);
    const memory = new Uint32Array(picture.data.buffer);
    expect(memory[5 * 20 + 3]).toBe(ink);
    expect(memory[5 * 20 + 9]).not.toBe(0);
    for (let row = 0; row < 10; row++) for (let at = 10; at < 20; at++) expect(memory[row * 20 + at]).toBe(0);
  });
  it("keeps a row in its place", () => {
    expect(spread(12, 1)).toBe(spread(12, 1));
    for (let row = 0; row < 500; row++) expect(Math.abs(spread(row, 2))).toBeLessThanOrEqual(0.5);
  });
  it("spreads rows evenly over a slot, along both axes apart", () => {
    const cells = new Array(16).fill(0);
    for (let row = 0; row < 8000; row++) {
      const [x, y] = [spread(row, 1) + 0.5, spread(row, 2) + 0.5];
      cells[Math.floor(x * 4) * 4 + Math.floor(y * 4)] += 1;
    }
    for (const one of cells) expect(Math.abs(one - 500)).toBeLessThan(110);
  });
});
