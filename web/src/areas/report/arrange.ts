import type { Draft, Piece, ReaderName, ReportDocument } from "./pieces";

export type Sections = Map<string, Draft["sections"][number]>;

/** Whether a piece stands in a reader's document. */
export function readBy(piece: Piece, reader: ReaderName, sections: Sections): boolean {
  const section = sections.get(piece.id);
  if (reader === "public" && section && !section.publishable) return false;
  return (piece.readers ?? section?.readers ?? ["full", "summary", "public"]).includes(reader);
}

/** What a piece is called; a text of one's own may have no heading. */
export const headingOf = (piece: Piece, sections: Sections) =>
  piece.title.trim() || sections.get(piece.id)?.title || "";

/** Order, headings and texts of a page as the document has them now; its figures stay where they are. */
export function arrange(
  page: Document,
  document: ReportDocument,
  reader: ReaderName,
  sections: Sections,
  title: string,
  prose: (text: string) => Promise<string>,
): void {
  const main = page.querySelector("main");
  if (!main) return;
  const head = page.querySelector("h1");
  if (head) head.textContent = document.title.trim() || title;
  const there = new Map(
    [...page.querySelectorAll<HTMLElement>("[data-piece]")].map((section) => [section.dataset.piece ?? "", section]),
  );
  for (const piece of document.pieces) {
    const found = there.get(piece.id) ?? (sections.has(piece.id) ? undefined : empty(page, piece.id));
    there.delete(piece.id);
    if (!found) continue; // nothing was read for it
    main.append(found);
    found.hidden = !readBy(piece, reader, sections);
    const heading = found.querySelector("h2");
    if (heading) {
      heading.textContent = headingOf(piece, sections);
      heading.hidden = !heading.textContent;
    }
    const unwritten = found.querySelector<HTMLElement>("[data-unwritten]");
    if (unwritten) unwritten.hidden = Boolean(piece.text.trim());
    write(found, piece.text, prose);
  }
  for (const gone of there.values()) gone.remove();
  contents(page);
}

/** The list at the head of the page, as its sections stand now. */
function contents(page: Document): void {
  const list = page.querySelector("nav.contents ol");
  if (!list) return;
  const sections = [...page.querySelectorAll<HTMLElement>("main > section:not([hidden])")];
  list.replaceChildren(
    ...sections.flatMap((section, place) => {
      const heading = section.querySelector("h2");
      if (!heading?.textContent) return [];
      heading.id ||= `own-${place}`;
      const line = page.createElement("li");
      const link = line.appendChild(page.createElement("a"));
      link.href = `#${heading.id}`;
      link.textContent = heading.textContent;
      return [line];
    }),
  );
}

function empty(page: Document, id: string): HTMLElement {
  const section = page.createElement("section");
  section.dataset.piece = id;
  section.append(page.createElement("h2"), page.createElement("div"));
  section.querySelector("div")?.classList.add("prose");
  return section;
}

/** A text comes from the server, which makes of it what the report will have. */
function write(section: HTMLElement, text: string, prose: (text: string) => Promise<string>): void {
  const place = section.querySelector<HTMLElement>(":scope > .prose");
  if (!place || place.dataset.text === text) return;
  place.dataset.text = text;
  if (!text.trim()) {
    place.textContent = "";
    return;
  }
  prose(text).then(
    (html) => {
      if (place.dataset.text === text) place.innerHTML = html;
    },
    () => {
      place.dataset.text = ""; // asked for again with the next change
    },
  );
}
