import type { LocationQuery } from "vue-router";

/** What the list of runs can be narrowed to; the names are those of the API and of the page's address. */
export const FIELDS = ["plan", "kind", "outcome", "since", "until", "find"] as const;
export type RunFilter = Record<(typeof FIELDS)[number], string>;

export const KINDS = ["test", "planned", "disaster", "re-protect"] as const;
export const OUTCOMES = ["under way", "passed", "failed", "inconclusive", "aborted", "committed", "rolled back", "protected"] as const;

/** The filter that an address asks for. */
export function filterOf(query: LocationQuery): RunFilter {
  return Object.fromEntries(FIELDS.map((name) => [name, typeof query[name] === "string" ? query[name] : ""])) as RunFilter;
}

/** Only what is filled in. */
export function asked(filter: RunFilter): Partial<RunFilter> {
  return Object.fromEntries(Object.entries(filter).filter(([, value]) => value !== ""));
}

/** A filter as a saved view keeps it. */
export function asQuery(filter: RunFilter): string {
  return new URLSearchParams(asked(filter)).toString();
}
