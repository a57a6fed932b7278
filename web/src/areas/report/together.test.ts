import { describe, expect, it } from "vitest";
import type { ReportDocument } from "./pieces";
import { together } from "./together";

const made = (...pieces: [string, string][]): ReportDocument => ({
  title: "",
  smallest: 30,
  pieces: pieces.map(([id, text]) => ({ id, text, title: "", readers: null })),
});
const texts = (document: ReportDocument) => document.pieces.map((piece) => `${piece.id}: ${piece.text}`);

describe("what is typed while an answer is on its way", () => {
  const sent = made(["a", "one"], ["b", "two"]);

  it("takes the answer where nothing was typed", () => {
    const answer = made(["a", "theirs"], ["b", "two"], ["c", "new"]);
    expect(together(sent, sent, answer)).toEqual(answer);
  });

  it("keeps what was typed and takes the rest", () => {
    const found = together(sent, made(["a", "one and more"], ["b", "two"]), made(["a", "one"], ["b", "theirs"]));
    expect(texts(found)).toEqual(["a: one and more", "b: theirs"]);
  });

  it("goes on in the piece that the server made where another's text took the place", () => {
    const typed = made(["a", "one and more"], ["b", "two"]);
    const found = together(sent, typed, made(["a", "theirs"], ["a-2", "one"], ["b", "two"]));
    expect(texts(found)).toEqual(["a: theirs", "a-2: one and more", "b: two"]);
  });

  it("makes a piece of it where the server made none", () => {
    const found = together(sent, made(["a", "one and more"], ["b", "two"]), made(["a", "theirs"], ["b", "two"]));
    expect(found.pieces.map((piece) => piece.text)).toEqual(["theirs", "one and more", "two"]);
    expect(new Set(found.pieces.map((piece) => piece.id)).size).toBe(3);
  });

  it("keeps an order made here, and what either added", () => {
    const typed = made(["b", "two"], ["a", "one"], ["mine", "x"]);
    const found = together(sent, typed, made(["a", "one"], ["theirs", "y"], ["b", "two"]));
    expect(found.pieces.map((piece) => piece.id)).toEqual(["b", "a", "mine", "theirs"]);
  });
});
