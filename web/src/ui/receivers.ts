// Who can be told of something: people by name, and whoever has a role.
import { computed } from "vue";
import { usePeople } from "@/api/queries";

/** Values and labels for a select. */
export function useReceivers() {
  const { data: people } = usePeople();
  return computed(() => [
    ...(people.value?.people ?? []).filter((one) => one.state !== "disabled").map((one) => ({ value: one.name, label: one.full_name ? `${one.full_name} (${one.name})` : one.name })),
    ...(people.value?.roles ?? []).map((one) => ({ value: `role:${one.code}`, label: `Whoever is ${one.name.toLowerCase()}` })),
  ]);
}
