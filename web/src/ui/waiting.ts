import { duration } from "@/ui/format";

/** What a run waits for a person for, as far as the headline says it. */
export interface Waiting {
  kind: string;
  title: string;
  since: string | null;
}

/** "Waiting for you: Till office confirms, for 5 min". */
export function headline(waiting: Waiting, now: number): string {
  const said = {
    verdict: "Waiting for your verdict",
    decision: "Waiting for you to commit or roll back",
    held: "Held until you resume it",
    failure: `${waiting.title}, and waits for you`,
  }[waiting.kind];
  const since = waiting.since === null ? 0 : (now - Date.parse(waiting.since)) / 1000;
  return `${said ?? `Waiting for you: ${waiting.title}`}${since >= 5 ? `, for ${duration(since)}` : ""}`;
}
