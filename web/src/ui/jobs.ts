import type { JobView } from "@/api/types";
import { count, duration } from "@/ui/format";

/** How far a job is, in words. */
export function progressOf(job: JobView): string {
  if (job.cancelling) return "Being cancelled";
  if (job.state === "waiting") return "Waiting for a worker";
  if (job.state !== "working") return { done: "Done", failed: "Failed", cancelled: "Cancelled" }[job.state];
  const left = job.left_s === null ? "" : `, ${duration(job.left_s)} left`;
  const far = job.total ? `${job.done} of ${job.total}${left}` : job.done ? `page ${job.done}` : "begun";
  return job.attempt > 1 ? `${far}; begun again, ${count(job.attempt - 1, "worker")} died` : far;
}
