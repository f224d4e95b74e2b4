import type { ApprovalView } from "@/api/types";

/** How a request stands, with its mark. */
const states: Record<string, string> = {
  open: "◌ waits",
  granted: "✓ approved",
  refused: "✕ refused",
  withdrawn: "– withdrawn",
  used: "✓ started",
  ended: "✕ ended unused",
};
export const kindNames: Record<string, string> = { test: "an isolated test", planned: "a planned failover", disaster: "a disaster failover", "re-protect": "a re-protect" };
/** Everything else that may need an approval. */
export const deedNames: Record<string, string> = { commit: "committing a failover", publish: "saving a version of a plan", "end-protection": "ending protection", retire: "retiring or removing things", people: "changing people, roles and these rules" };
/** What a rule of one plan can be about. */
export const ofAPlan = (kind: string) => kind in kindNames || kind === "commit" || kind === "publish";

export const stateOf = (one: ApprovalView) => (one.deed && one.state === "used" ? "✓ done" : states[one.state] ?? one.state);
