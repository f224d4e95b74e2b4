import type { components } from "@/api/schema";

type Schemas = components["schemas"];

export type Finding = Schemas["Finding"];
export type Plan = Schemas["Plan"];
export type Wave = Schemas["Wave"];
export type Member = Schemas["Member"];
export type PlanDetail = Schemas["PlanDetail"];
export type PlanPoints = Schemas["PlanPoints"];
export type GroupPoints = Schemas["GroupPoints"];
export type RecoveryPoint = Schemas["RecoveryPoint"];
export type AssessmentView = Schemas["AssessmentView"];
export type ForecastFigures = Schemas["ForecastFigures"];
export type Preflight = Schemas["Preflight"];
export type Readiness = Schemas["Readiness"];
export type PlanRowView = Schemas["PlanRowView"];
export type RunDetail = Schemas["RunDetail"];
export type RunLine = Schemas["RunLine"];
export type RunStatus = Schemas["RunStatus"];
export type EventView = Schemas["EventView"];
export type ScoreStep = Schemas["ScoreStep"];
export type StreamMessage = Schemas["StreamMessage"];
export type Session = Schemas["Session"];
export type SiteLine = Schemas["SiteLine"];
export type WorkloadBrief = Schemas["WorkloadBrief"];
export type Problem = Schemas["Problem"];
export type TestOptions = Schemas["TestOptionsSent"];
