/** Kinds, phases and outcomes as reports say them. */
export const kinds: Record<string, string> = {
  test: "Isolated test",
  planned: "Planned failover",
  disaster: "Disaster failover",
  "re-protect": "Re-protect",
};
export const phases: Record<string, string> = {
  prepare: "preparing the landing",
  "close-down": "closing down the source",
  "hand-over": "handing over",
  "bring-up": "bringing up",
  judge: "judging",
  cleanup: "cleanup",
  commit: "commit",
  "roll-back": "roll back",
};
/** Outcomes of runs that prove something. */
export const proves = (outcome: string) => ["passed", "committed", "rolled back"].includes(outcome);
