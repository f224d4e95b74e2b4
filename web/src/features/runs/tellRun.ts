import { api, take } from "@/api/client";
import type { Control } from "@/api/types";

/** Tells a run something; however often it is sent, it counts once. */
export const tellRun = (id: number, body: Control) =>
  take(api.POST("/api/v1/runs/{id}/controls", { params: { path: { id }, header: { "Idempotency-Key": crypto.randomUUID() } }, body }));
