import type { Piece, ReportDocument } from "./pieces";

const same = (one: unknown, other: unknown) => JSON.stringify(one) === JSON.stringify(other);
const names = (document: ReportDocument) => document.pieces.map((piece) => piece.id);

/**
 * What was typed while an earlier state was on its way, put together with the answer to that: whatever was changed since
 * it was sent stays as it is here, all else is as the server has it. Where the answer brought another's text into the
 * very piece that is typed in, theirs stays and mine goes on in the piece that the server made of what was sent.
 */
export function together(sent: ReportDocument, typed: ReportDocument, answer: ReportDocument): ReportDocument {
  const of = (document: ReportDocument) => new Map(document.pieces.map((piece) => [piece.id, piece]));
  const [was, own, theirs] = [of(sent), of(typed), of(answer)];
  const beside = new Map<string, Piece>();
  const kept = (id: string): Piece | undefined => {
    const [before, mine, other] = [was.get(id), own.get(id), theirs.get(id)];
    if (!before || !mine || !other) return same(before, mine) ? other : mine;
    const chosen = <Name extends keyof Piece>(name: Name) => (same(before[name], mine[name]) ? other : mine)[name];
    const both = mine.text !== before.text && other.text !== before.text && mine.text !== other.text;
    if (both) {
      const made = answer.pieces.find((piece) => !was.has(piece.id) && piece.text === before.text);
      const title = made?.title ?? `${mine.title || id}, as it was typed at the same time`;
      const name = made?.id ?? `${id.slice(0, 60)}-${crypto.randomUUID().slice(0, 8)}`;
      beside.set(id, { ...(made ?? mine), id: name, title, text: mine.text });
    }
    return { id, title: chosen("title"), readers: chosen("readers"), text: both ? other.text : chosen("text") };
  };
  const order = same(names(sent), names(typed)) ? names(answer) : names(typed);
  const rest = [...own.keys(), ...theirs.keys()].filter((id) => !order.includes(id));
  const pieces = [...order, ...new Set(rest)].map(kept).filter((piece) => piece !== undefined);
  const moved = new Map([...beside.values()].map((piece) => [piece.id, piece]));
  const out = pieces.flatMap((piece) => {
    const next = beside.get(piece.id);
    if (moved.has(piece.id)) return []; // it stands behind what it stems from
    return next ? [piece, next] : [piece];
  });
  return {
    title: typed.title === sent.title ? answer.title : typed.title,
    smallest: typed.smallest === sent.smallest ? answer.smallest : typed.smallest,
    pieces: out,
  };
}
