/** A shape for every outcome, so that nothing is only colour. */
export const outcomeShapes: Record<string, string> = {
  passed: "✓",
  committed: "✓",
  "rolled back": "↶",
  protected: "✓",
  failed: "✕",
  inconclusive: "?",
  aborted: "–",
};
