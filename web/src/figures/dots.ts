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
  // of very many dots each is two pixels wide: every pixel more costs a frame its time
  const side = Math.max(
    2,
    Math.round((xs.length > 50_000 ? 2 : xs.length > 20_000 ? 2.8 : xs.length > 3_000 ? 3.8 : 5.4) * scale),
  );
  const before = (side - 1) >> 1;
  const any = chosen.includes(1);
  // four numbers a panel, one after the other: this is gone through for every dot of every frame
  const ends = Int32Array.from(
    boxes.flatMap((box) => [
      Math.ceil(box.left * scale),
      Math.floor((box.left + box.width) * scale) - 1,
      Math.ceil(box.top * scale),
      Math.floor((box.top + box.height) * scale) - 1,
    ]),
  );
  const lighter = any ? 0x50000000 : 0xd0000000;
  const inked = Int32Array.from(colours, (one) => (one & 0x00ffffff) | lighter);
  const across = picture.width;
  for (let pass = 0; pass < (any ? 2 : 1); pass++) {
    for (let i = 0; i < xs.length; i++) {
      if (!shown[i] || chosen[i] !== pass) continue;
      const own = 4 * (panel[i] as number);
      const x = Math.round((xs[i] as number) * scale);
      const y = Math.round((ys[i] as number) * scale);
      const low = Math.max(x - before, ends[own] as number);
      const high = Math.min(x - before + side - 1, ends[own + 1] as number);
      const to = Math.min(y - before + side - 1, ends[own + 3] as number);
      const colour = pass ? ink : (inked[tint[i] as number] as number);
      for (let row = Math.max(y - before, ends[own + 2] as number); row <= to; row++) {
        const start = row * across;
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
