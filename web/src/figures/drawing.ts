/**
 * What every figure is given: the result (or the records of it that are drawn) and the width there is. It draws one SVG
 * with a name for who does not see it, and keeps no state of the page.
 */
export interface Drawing<R> {
  result: R;
  width: number;
}

/** A figure whose marks stand for something: pressed by pointer or keyboard, ``onMark`` is told which. */
export interface Pressable<R, Mark> extends Drawing<R> {
  onMark: (mark: Mark) => void;
}
