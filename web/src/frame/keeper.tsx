import { createContext, useContext } from "react";
import type { AnyEvidence } from "../api/useReading";

export interface Keeper {
  /** The open sheet offers its evidence to be kept. */
  offer: (evidence: AnyEvidence | undefined) => void;
  offered: AnyEvidence | undefined;
  keep: () => void;
}

export const KeeperContext = createContext<Keeper>({ offer: () => {}, offered: undefined, keep: () => {} });

export const useKeeper = () => useContext(KeeperContext);
