import createClient, { type Middleware } from "openapi-fetch";
import { BASE } from "./base";
import type { components, paths } from "./schema.gen";

export type Schemas = components["schemas"];
export type Run = Schemas["RunBody"];
export type Plan = Schemas["PlanBody"];
export type PlanDocument = Schemas["PlanDocument"];
export type PlanCase = Schemas["PlanCase"];
export type PlanCondition = Schemas["PlanCondition"];
export type PlanLimit = Schemas["PlanLimit"];
export type Exclusion = Schemas["Exclusion"];
export type WrittenPlan = Schemas["WrittenPlanBody"];
export type Trend = Schemas["TrendBody"];
export type TrendLine = Schemas["LineBody"];
export type Search = Schemas["SearchBody"];
export type Sheet = Schemas["SheetBody"];
export type Cell = Schemas["CellBody"];
export type Condition = Schemas["ConditionBody"];
export type Finding = Schemas["FindingBody"];
export type Standing = Schemas["StandingBody"];
export type NewDecision = Schemas["NewDecisionBody"];
export type DecisionKind = NewDecision["kind"];
export type RunChange = Schemas["RunChangeBody"]["change"];
export type Pair = Schemas["PairBody"];
export type Side = Schemas["SideBody"];
export type Reading = Schemas["ReadingBody"];
export type Cause = Schemas["CauseBody"];
export type Limit = Schemas["LimitBody"];
export type Measure = Schemas["MeasureBody"];
export type Strip = Schemas["StripBody"];
export type Curve = Schemas["CurveBody"];
export type Spectrum = Schemas["SpectrumBody"];
export type ReferencesOfBuild = Schemas["ReferencesOfBuildBody"];
export type Approvable = Schemas["ApprovedBuildBody"]["verdicts"][number];
export type RendersOfBuild = Schemas["RendersOfBuildBody"];
export type Reference = Schemas["ReferenceBody"];
export type Act = Schemas["ActBody"];
export type Upload = Schemas["UploadBody"];
export type Comparison = Schemas["ComparisonBody"];
export type Kit = Schemas["KitBody"];
export type KitPlace = Schemas["KitPlaceBody"];
export type KitFile = Schemas["KitFileBody"];
export type KitReceipt = Schemas["KitReceiptBody"];
export type Host = Schemas["HostBody"];
export type NewRun = Schemas["NewRunBody"];
export type NewHost = Schemas["NewHostBody"];
export type Machine = Schemas["MachineBody"];
export type Setting = Schemas["SettingBody"];
export type Effect = Schemas["EffectBody"];
export type Signal = Schemas["SignalBody"];
export type SignalKind = Schemas["SignalKindBody"];
export type SignalKinds = Schemas["SignalKindsBody"];
export type SignalParameter = Schemas["SignalParameterBody"];
export type SignalRequest = Signal["request"];
export type SignalPreview = Schemas["PreviewBody"];
export type LevelMap = Schemas["LevelMapBody"];
export type Me = Schemas["MeBody"];
export type Person = Schemas["PersonBody"];
export type Token = Schemas["TokenBody"];
export type NoticeTarget = Schemas["TargetBody"];
export type Notice = Schemas["NoticeBody"];
export type NewNoticeTarget = Schemas["NewTargetBody"];
export type Schedule = Schemas["ScheduleBody"];
export type NewSchedule = Schemas["NewScheduleBody"];
export type NewComparison = Schemas["NewComparisonBody"];

/** An error that carries a sentence a person can act on. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    detail: string,
  ) {
    super(detail);
  }
}

export const NO_ANSWER = "The server does not answer. What is shown was there before; it is asked again.";

let forgery = "";

/** What the server gave this session to send back with each change, so that no other page can make one. */
export const forgeryToken = {
  keep: (token: string) => {
    forgery = token;
  },
  header: (): Record<string, string> => ({ "X-CSRFToken": forgery }),
};

const listeners = new Set<() => void>();

/** Told when the server no longer knows who is asking. */
export function onSignedOut(listener: () => void): () => void {
  listeners.add(listener);
  return () => listeners.delete(listener);
}

const signing: Middleware = {
  onRequest({ request }) {
    if (request.method !== "GET")
      for (const [name, value] of Object.entries(forgeryToken.header())) request.headers.set(name, value);
    return request;
  },
  onResponse({ request, response }) {
    const isWayIn = /\/api\/(sign-in|links\/|me)/.test(request.url);
    if (response.status === 401 && !isWayIn) for (const listener of listeners) listener();
    return response;
  },
};

async function answered(request: Request): Promise<Response> {
  try {
    return await fetch(request);
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new Problem(0, "NoAnswer", NO_ANSWER);
  }
}

/** Whether a change was refused because it was sent with the token of another session. */
async function isOfOtherSession(response: Response): Promise<boolean> {
  if (response.status !== 400) return false;
  const body: unknown = await response
    .clone()
    .json()
    .catch(() => null);
  return problemFrom(400, body).title === "OtherSession";
}

export const client = createClient<paths>({
  baseUrl: BASE,
  fetch: async (request) => {
    const again = request.method === "GET" ? undefined : request.clone();
    const response = await answered(request);
    if (!again || !(await isOfOtherSession(response))) return response;
    // Somebody signed in or out in another window, or an answer on its way brought an older cookie.
    const me = await answered(new Request(`${BASE}/api/me`));
    if (!me.ok) return response;
    forgeryToken.keep(((await me.json()) as Me).forgery_token);
    again.headers.set("X-CSRFToken", forgeryToken.header()["X-CSRFToken"] ?? "");
    return answered(again);
  },
});

client.use(signing);

/** The sentence of a problem document, or a general one where the answer is none. */
export function problemFrom(status: number, body: unknown): Problem {
  if (typeof body === "object" && body !== null && "detail" in body && "title" in body)
    return new Problem(status, String(body.title), String(body.detail));
  return new Problem(status, "Unexpected", `The server answered with status ${status}. Nothing was changed.`);
}

/** The data of an answer, which one that says that it has none lacks; throws a Problem for anything else. */
export async function unwrap<T>(
  answer: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<NonNullable<T>> {
  const { data, error, response } = await answer;
  if (response.status === 204) return undefined as unknown as NonNullable<T>;
  if (data === undefined || data === null) throw problemFrom(response.status, error);
  return data;
}

/** Ask again when the server or its database was away; not when it said no. */
export const shouldRetry = (count: number, error: Error): boolean =>
  count < 5 && error instanceof Problem && (error.status === 0 || error.status >= 502);

/** How often what may change is asked for again. */
export const POLL_MS = 2000;
