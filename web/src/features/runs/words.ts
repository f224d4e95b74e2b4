import type { RunStatus } from "@/api/types";
import { duration, size } from "@/ui/format";

const verdicts: Record<string, string> = { passed: "passed", failed: "failed", inconclusive: "was inconclusive" };

/** The sentence at the top: what is going on, or how it ended. */
export function lead(now: RunStatus): string {
  if (now.kind === "re-protect") return ofReprotect(now);
  return now.kind === "test" ? ofTest(now) : ofFailover(now);
}

function ofTest(now: RunStatus): string {
  const [plan, at] = [now.plan_name, now.target_name];
  if (now.outcome === "aborted") return `The test of ${plan} was aborted and cleaned up.`;
  if (now.outcome) return `The test of ${plan} ${verdicts[now.outcome] ?? now.outcome} and is cleaned up.`;
  if (now.phase === "cleanup") return `The test of ${plan} is being cleaned up at ${at}.`;
  if (now.phase === "judge") return `${plan} is up in a sandbox at ${at} and waits for your verdict.`;
  if (now.phase === "prepare") return `Copies of ${plan} are being prepared in a sandbox at ${at}.`;
  return `${plan} is coming up in a sandbox at ${at}:`;
}

function ofFailover(now: RunStatus): string {
  const [plan, at, from] = [now.plan_name, now.target_name, now.source_name];
  if (now.outcome === "committed") return `${plan} runs at ${at}; the failover is committed.`;
  if (now.outcome === "rolled back") return `The failover of ${plan} was rolled back; nothing of it is left at ${at}.`;
  if (now.outcome) return `The failover of ${plan} was aborted and taken back.`;
  switch (now.phase) {
    case "prepare":
      return `${plan} is about to move to ${at}.`;
    case "close-down":
      return `${plan} is being shut down at ${from}, in the reverse of its boot order.`;
    case "hand-over":
      return `${plan} is between ${from} and ${at}: fenced here, not up there yet.`;
    case "judge":
      return `${plan} is up at ${at}. Look at it, then commit or roll back.`;
    case "commit":
      return `${plan} stays at ${at}; the commit is being carried out.`;
    case "roll-back":
      return `${plan} is going back to ${from}.`;
    default:
      return `${plan} is coming up at ${at}:`;
  }
}

function ofReprotect(now: RunStatus): string {
  if (now.outcome === "protected") return `${now.plan_name} is protected again, from ${now.source_name} to ${now.target_name}.`;
  if (now.outcome) return `Re-protecting ${now.plan_name} was stopped; it is not protected.`;
  const left = now.groups.reduce((sum, group) => sum + Math.max(group.whole_bytes - group.done_bytes, 0), 0);
  const rate = now.groups.reduce((sum, group) => sum + group.rate_bps, 0);
  if (!left) return `What differs in ${now.plan_name} is being found and copied to ${now.target_name}.`;
  const time = rate > 0 ? `about ${duration(left / rate)} to go` : "waiting for the link";
  return `${size(left)} of ${now.plan_name} are still to be copied to ${now.target_name}, ${time}.`;
}

/** The line below: what happened to production, and how much work was lost. */
export function under(now: RunStatus, rpo: number): string {
  const allowed = `${now.plan_name} allows ${duration(now.rpo_objective_s)}`;
  if (now.kind === "test") return `Production at ${now.source_name} is not touched. The copies are from points at most ${duration(rpo)} old (${allowed}).`;
  if (now.kind === "re-protect") return `Services at ${now.source_name} go on running meanwhile.`;
  const back = now.outcome || now.decision ? "" : " Until commit, everything can go back.";
  if (now.outcome === "rolled back" || now.outcome === "aborted") return `Everything runs at ${now.source_name} again and is copied to ${now.target_name} as before.`;
  if (now.kind === "planned") return `Nothing is lost: what was written last is copied once everything is off and fenced.${back}`;
  const open = now.unconfirmed.length ? ` ${now.unconfirmed.length} copies at ${now.source_name} are not confirmed off; their fences are kept.` : "";
  return `Work of at most ${duration(rpo)} is lost (${allowed}).${open}${back}`;
}
