/** How a request stands, with its mark. */
export const states: Record<string, string> = {
  open: "◌ waits",
  granted: "✓ approved",
  refused: "✕ refused",
  withdrawn: "– withdrawn",
  used: "✓ started",
  ended: "✕ ended unused",
};
export const kindNames: Record<string, string> = { test: "an isolated test", planned: "a planned failover", disaster: "a disaster failover", "re-protect": "a re-protect" };
