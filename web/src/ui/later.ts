import { type ComponentType, type LazyExoticComponent, lazy } from "react";

const loads: (() => Promise<unknown>)[] = [];

/** A component whose code comes when it is first drawn, or before, while nothing else is done. */
export function later(load: () => Promise<ComponentType>): LazyExoticComponent<ComponentType> {
  loads.push(load);
  return lazy(async () => ({ default: await load().catch(afresh) }));
}

/** Code that cannot be had, as after a new release: the page is opened anew, once; then it is an error. */
function afresh(problem: unknown): Promise<never> {
  const last = Number(sessionStorage.getItem("opened anew") ?? 0);
  if (Date.now() - last < 30_000) throw problem;
  sessionStorage.setItem("opened anew", String(Date.now()));
  location.reload();
  return new Promise(() => {});
}

const QUIET = 800;
let acted = 0;
for (const kind of ["pointerdown", "keydown", "input"]) {
  addEventListener(
    kind,
    () => {
      acted = performance.now();
    },
    { capture: true, passive: true },
  );
}

/** Until nothing is done by the page, and nothing was by the person for a moment. */
async function quiet(): Promise<void> {
  for (;;) {
    await new Promise<void>((done) =>
      "requestIdleCallback" in window ? requestIdleCallback(() => done(), { timeout: 2_000 }) : setTimeout(done, 50),
    );
    const left = acted + QUIET - performance.now();
    if (!acted || left <= 0) return;
    await new Promise((done) => setTimeout(done, left));
  }
}

/** Fetch what is still to come, one after the other, while nobody types or clicks; what fails is asked for again when it is
 * drawn. */
export async function fetchTheRest(): Promise<void> {
  // what is fetched may name more
  for (let i = 0; i < loads.length; i++) {
    await quiet();
    await loads[i]?.().catch(() => undefined);
  }
}
