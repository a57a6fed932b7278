import type { Schemas } from "../../api/client";

export type Draft = Schemas["DraftView"];
export type ReportDocument = Draft["document"];
export type Piece = ReportDocument["pieces"][number];
export type ReaderName = "full" | "summary" | "public";
