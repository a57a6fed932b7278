import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useAuditContext } from "../frame/context";
import { api, type Context, need, type Problem, type Schemas, type Task, type Told } from "./client";
import METHODS from "./methods.json";
import { ENDED, useTask } from "./tasks";

export interface Readings {
  performance: Schemas["EvidenceView_PerformanceResult_"];
  drivers: Schemas["EvidenceView_DriversResult_"];
  side_by_side: Schemas["EvidenceView_SideResult_"];
  shapley_by_part: Schemas["EvidenceView_ByPartResult_"];
  spread: Schemas["EvidenceView_SpreadResult_"];
  expectations: Schemas["EvidenceView_ExpectationsResult_"];
  response: Schemas["EvidenceView_ResponseResult_"];
  ale: Schemas["EvidenceView_AleResult_"];
  surface: Schemas["EvidenceView_SurfaceResult_"];
  interactions: Schemas["EvidenceView_InteractionsResult_"];
  expected: Schemas["EvidenceView_ExpectedResult_"];
  cases: Schemas["EvidenceView_CasesPage_"];
  ladder: Schemas["EvidenceView_LadderResult_"];
  tilt: Schemas["EvidenceView_TiltResult_"];
  lattice: Schemas["EvidenceView_LatticeResult_"];
  one_group: Schemas["EvidenceView_OpenedResult_"];
  score_gap: Schemas["EvidenceView_ScoreGapResult_"];
  given: Schemas["EvidenceView_GivenResult_"];
  sides: Schemas["EvidenceView_SidesResult_"];
  thresholds: Schemas["EvidenceView_ThresholdResult_"];
  flip: Schemas["EvidenceView_FlipResult_"];
}
export type MethodName = keyof Readings;
export type AnyEvidence = Readings[MethodName];

interface Answer<M extends MethodName> {
  evidence?: Readings[M] | null;
  task?: Task | null;
}

export interface Asked<M extends MethodName> {
  evidence: Readings[M] | undefined;
  /** True while the evidence shown belongs to the question before. */
  stale: boolean;
  task: Task | undefined;
  problem: Told | null;
  again: () => void;
}

/**
 * Ask for a method's evidence in the open context; computed in the background when it is not there yet.
 * Where the method has a first look, evidence from a sample is shown until the whole is there.
 */
export function useReading<M extends MethodName>(
  method: M,
  settings: object,
  how: { wanted?: boolean; whole?: boolean } = {},
): Asked<M> {
  const { audit } = useAuditContext();
  const wanted = audit.ready && how.wanted !== false;
  const whole = useAsked(method, settings, wanted);
  const look = METHODS[method].first_look;
  const looks = !how.whole && Object.keys(look).length > 0;
  const waiting = wanted && looks && (whole.evidence === undefined || whole.stale) && !whole.problem;
  const sample = useAsked(method, { ...settings, ...look }, waiting);
  if (!waiting || !sample.evidence || sample.stale) return whole;
  return { ...whole, evidence: sample.evidence, stale: false };
}

function useAsked<M extends MethodName>(method: M, settings: object, enabled: boolean): Asked<M> {
  const { audit, context } = useAuditContext();
  const query = useQuery<Answer<M>, Problem>({
    queryKey: ["reading", audit.id, method, context, settings],
    queryFn: () => ask(audit.id, method, context, settings),
    placeholderData: keepPreviousData,
    enabled,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const task = useTask(query.data?.task ?? undefined);
  const failed = task?.state === "failed" && task.error ? task.error : null;
  return {
    evidence: query.data?.evidence ?? undefined,
    stale: query.isPlaceholderData,
    task: task && (!ENDED.has(task.state) || task.state === "cancelled") ? task : undefined,
    problem: query.error ?? (failed ? { detail: failed.message, where: failed.where, todo: failed.todo } : null),
    again: () => query.refetch(),
  };
}

async function ask<M extends MethodName>(
  audit: string,
  method: M,
  context: Context,
  settings: object,
): Promise<Answer<M>> {
  // one route a method; the settings were typed where they were made
  const path = `/api/audits/{audit_id}/readings/${method}` as "/api/audits/{audit_id}/readings/tilt";
  const answer = await need(
    api.POST(path, { params: { path: { audit_id: audit } }, body: { context, settings } as never }),
  );
  return answer as unknown as Answer<M>;
}
