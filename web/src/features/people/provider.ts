// The provider of identities as a form has it: groups are rows.
import type { ProviderSaveSent, ProviderView, Scope } from "@/api/types";

export interface GroupRoles {
  group: string;
  roles: string[];
  /** What for; nothing: everything. */
  scope?: Scope | undefined;
}

export type ProviderDraft = Omit<Required<ProviderSaveSent>, "roles" | "scopes"> & { roles: GroupRoles[] };

export const emptyProvider = (): ProviderDraft => ({ name: "", issuer: "", client_id: "", client_secret: "", groups_claim: "groups", roles: [], makes_accounts: false, second_factor: false });

export function providerOf(kept: ProviderView): ProviderDraft {
  const roles = Object.entries(kept.roles).map(([group, given]) => ({ group, roles: [...given], scope: kept.scopes[group] }));
  const { name, issuer, client_id, groups_claim, makes_accounts, second_factor } = kept;
  return { name, issuer, client_id, client_secret: "", groups_claim, roles, makes_accounts, second_factor };
}

/** A group that is named twice gives what both rows say. */
export function sentOf(draft: ProviderDraft): ProviderSaveSent {
  const roles: Record<string, string[]> = {};
  for (const one of draft.roles) roles[one.group.trim()] = [...(roles[one.group.trim()] ?? []), ...one.roles];
  const scopes = Object.fromEntries(draft.roles.flatMap((one) => (one.scope ? [[one.group.trim(), one.scope]] : [])));
  return { ...draft, roles, scopes };
}
