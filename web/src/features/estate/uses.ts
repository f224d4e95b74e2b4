interface Pair {
  user: string;
  provider: string;
}

/** Names in columns: each one column to the right of the furthest thing it needs. Circles are cut where met. */
export function columns(pairs: Pair[]): string[][] {
  const needs = new Map<string, string[]>();
  for (const { user, provider } of pairs) {
    needs.set(user, [...(needs.get(user) ?? []), provider]);
    if (!needs.has(provider)) needs.set(provider, []);
  }
  const depth = new Map<string, number>();
  const visit = (name: string, path: Set<string>): number => {
    const known = depth.get(name);
    if (known !== undefined) return known;
    if (path.has(name)) return -1;
    path.add(name);
    const found = 1 + Math.max(-1, ...(needs.get(name) ?? []).map((other) => visit(other, path)));
    path.delete(name);
    depth.set(name, found);
    return found;
  };
  const found: string[][] = [];
  for (const name of needs.keys()) {
    const at = visit(name, new Set());
    (found[at] ??= []).push(name);
  }
  return found.map((column) => column ?? []);
}

/** Uses that lead to a workload or away from it, however far. */
export function around<P extends Pair>(pairs: P[], name: string): P[] {
  const reach = (from: keyof Pair, to: keyof Pair) => {
    const seen = new Set([name]);
    for (let grown = true; grown; ) {
      grown = false;
      for (const pair of pairs) {
        if (seen.has(pair[from]) && !seen.has(pair[to])) {
          seen.add(pair[to]);
          grown = true;
        }
      }
    }
    return seen;
  };
  const down = reach("user", "provider");
  const up = reach("provider", "user");
  return pairs.filter((pair) => (down.has(pair.user) && down.has(pair.provider)) || (up.has(pair.user) && up.has(pair.provider)));
}

export interface Tagged {
  name: string;
  tags: Record<string, string>;
}
/** What has no such tag. */
export const UNTAGGED = "without it";

/** Tags by which at least two workloads can be told apart, the one that most have first. */
export function tagKeys(rows: Tagged[]): string[] {
  const often = new Map<string, number>();
  for (const row of rows) for (const key of Object.keys(row.tags)) often.set(key, (often.get(key) ?? 0) + 1);
  return [...often].filter(([, times]) => times > 1).sort((a, b) => b[1] - a[1] || a[0].localeCompare(b[0])).map(([key]) => key);
}

/** Uses between groups of workloads that have the same value of a tag, each once; what a group uses of itself is left out. */
export function folded(pairs: Pair[], rows: Tagged[], key: string): (Pair & { times: number })[] {
  const groupOf = new Map(rows.map((row) => [row.name, row.tags[key] ?? UNTAGGED]));
  const found = new Map<string, Pair & { times: number }>();
  for (const pair of pairs) {
    const [user, provider] = [groupOf.get(pair.user) ?? UNTAGGED, groupOf.get(pair.provider) ?? UNTAGGED];
    if (user === provider) continue;
    const id = JSON.stringify([user, provider]);
    const one = found.get(id);
    if (one) one.times += 1;
    else found.set(id, { user, provider, times: 1 });
  }
  return [...found.values()];
}
