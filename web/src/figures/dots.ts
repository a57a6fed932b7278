/** Geometry and drawing of many dots, apart from any page. */

export interface Box {
  left: number;
  top: number;
  width: number;
  height: number;
}

/** A steady place within a slot for a row, from −0.5 to 0.5: a dot does not move when it is drawn again. */
export function spread(row: number, salt: number): number {
  // mixed until places along two axes have nothing to do with each other
  let mixed = Math.imul(row ^ (salt * 0x9e3779b9), 0x85ebca6b);
  mixed = Math.imul(mixed ^ (mixed >>> 13), 0xc2b2ae35);
  mixed = Math.imul(mixed ^ (mixed >>> 16), 0x27d4eb2f);
  return ((mixed ^ (mixed >>> 15)) >>> 0) / 2 ** 32 - 0.5;
}

/** Whether a point lies within a ring of corners (crossings of a ray). */
export function within(x: number, y: number, ring: readonly (readonly [number, number])[]): boolean {
  let inside = false;
  for (let i = 0, j = ring.length - 1; i < ring.length; j = i++) {
    const [xi, yi] = ring[i] as readonly [number, number];
    const [xj, yj] = ring[j] as readonly [number, number];
    if (yi > y !== yj > y && x < ((xj - xi) * (y - yi)) / (yj - yi) + xi) inside = !inside;
  }
  return inside;
}

/** Every dot within a ring; what is not shown is not chosen. */
export function chosenBy(
  ring: readonly (readonly [number, number])[],
  xs: Float32Array,
  ys: Float32Array,
  shown: Uint8Array,
): number[] {
  let [left, right, top, bottom] = [Infinity, -Infinity, Infinity, -Infinity];
  for (const [x, y] of ring) {
    left = Math.min(left, x);
    right = Math.max(right, x);
    top = Math.min(top, y);
    bottom = Math.max(bottom, y);
  }
  const found: number[] = [];
  for (let i = 0; i < xs.length; i++) {
    const x = xs[i] as number;
    const y = ys[i] as number;
    if (x < left || x > right || y < top || y > bottom || !shown[i]) continue;
    if (within(x, y, ring)) found.push(i);
  }
  return found;
}

/** The dot nearest to a place, within a few pixels; −1 where there is none. */
export function nearestTo(
  x: number,
  y: number,
  xs: Float32Array,
  ys: Float32Array,
  shown: Uint8Array,
  reach = 9,
): number {
  let [best, at] = [reach * reach, -1];
  for (let i = 0; i < xs.length; i++) {
    if (!shown[i]) continue;
    const away = ((xs[i] as number) - x) ** 2 + ((ys[i] as number) - y) ** 2;
    if (away < best) [best, at] = [away, i];
  }
  return at;
}

/** Dots as squares of pixels, straight into the picture's memory; the chosen over the others, in ink. */
export function paint(
  picture: ImageData,
  boxes: readonly Box[],
  panel: Uint8Array,
  xs: Float32Array,
  ys: Float32Array,
  tint: Uint8Array,
  shown: Uint8Array,
  chosen: Uint8Array,
  colours: readonly number[],
  ink: number,
  scale: number,
): void {
  const memory = new Uint32Array(picture.data.buffer);
  memory.fill(0);
  const half = Math.max(1, Math.round((xs.length > 20_000 ? 0.8 : xs.length > 3_000 ? 1.4 : 2.2) * scale));
  const any = chosen.includes(1);
  for (let pass = 0; pass < 2; pass++) {
    for (let i = 0; i < xs.length; i++) {
      if (!shown[i] || chosen[i] !== pass) continue;
      const box = boxes[panel[i] as number] as Box;
      const x = Math.round((xs[i] as number) * scale);
      const y = Math.round((ys[i] as number) * scale);
      const low = Math.max(x - half, Math.ceil(box.left * scale));
      const high = Math.min(x + half, Math.floor((box.left + box.width) * scale) - 1);
      const from = Math.max(y - half, Math.ceil(box.top * scale));
      const to = Math.min(y + half, Math.floor((box.top + box.height) * scale) - 1);
      const colour = pass ? ink : ((colours[tint[i] as number] ?? ink) & 0x00ffffff) | (any ? 0x50000000 : 0xd0000000);
      for (let row = from; row <= to; row++) {
        const start = row * picture.width;
        for (let column = low; column <= high; column++) memory[start + column] = colour;
      }
    }
  }
}

/** "#0e6b5c" as the picture's memory holds it: alpha, blue, green, red. */
export function packed(hex: string): number {
  const value = Number.parseInt(hex.trim().slice(1), 16);
  const [red, green, blue] = [(value >> 16) & 255, (value >> 8) & 255, value & 255];
  return ((255 << 24) | (blue << 16) | (green << 8) | red) >>> 0;
}
