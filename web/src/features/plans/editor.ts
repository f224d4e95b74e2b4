import { useQueryClient } from "@tanstack/vue-query";
import { computed, onScopeDispose, ref, shallowRef, watch, type Ref } from "vue";
import { ApiError, api, take } from "@/api/client";
import { usePlan, useSiteLine } from "@/api/queries";
import type { AssessmentView, Finding, Plan, Problem } from "@/api/types";
import { useDraft } from "@/ui/draft";

const AFTER_LAST_CHANGE_MS = 120;

/** A plan being edited: its draft, what is thought of it as one edits, and saving it. */
export function usePlanEditor(code: Ref<string>) {
  const client = useQueryClient();
  const { data: detail, error } = usePlan(code);
  const saved = computed(() => detail.value && { value: detail.value.plan, version: detail.value.version });
  const draft = useDraft(saved, (one) => one.code);
  const plan = draft.value;
  const assessment = shallowRef<AssessmentView | null>(null);
  // What was refused stays until something else is done; how it is judged, which comes whenever it comes, has its own.
  const refused = ref<unknown>(null);
  const unjudged = ref<unknown>(null);
  const problem = computed(() => refused.value ?? unjudged.value);
  const stale = ref<Problem | null>(null);
  const saving = ref(false);
  const said = ref("");

  // Judged again as one edits, a moment after the last change; what was asked before is given up.
  const reckoning = ref(false);
  let asking = new AbortController();
  let timer = 0;
  async function assess() {
    const current = plan.value;
    if (!current) return;
    reckoning.value = true;
    asking.abort();
    const mine = (asking = new AbortController());
    try {
      const answer = await take(
        api.POST("/api/v1/plans/{code}/assessment", {
          params: { path: { code: code.value } },
          body: { plan: current, based_on: draft.basedOn.value },
          signal: mine.signal,
        }),
      );
      if (mine.signal.aborted) return;
      assessment.value = answer;
      unjudged.value = null;
      reckoning.value = false;
    } catch (caught) {
      if (mine.signal.aborted) return;
      unjudged.value = caught;
      reckoning.value = false;
    }
  }
  watch(
    plan,
    () => {
      refused.value = null;
      reckoning.value = true;
      window.clearTimeout(timer);
      timer = window.setTimeout(assess, assessment.value ? AFTER_LAST_CHANGE_MS : 0);
    },
    { immediate: true },
  );
  onScopeDispose(() => {
    window.clearTimeout(timer);
    asking.abort();
  });
  // A site that goes away or comes back changes what can be said of the plan, too.
  const { data: line } = useSiteLine();
  const away = computed(() => line.value?.stations.filter((site) => site.lost_because).map((site) => site.code).join());
  watch(away, (_, before) => before !== undefined && void assess());

  async function save(summary: string) {
    if (!plan.value || !draft.changed.value) return;
    saving.value = true;
    refused.value = null;
    const sent = plan.value;
    try {
      const done = await take(
        api.PUT("/api/v1/plans/{code}", {
          params: { path: { code: code.value }, header: { "If-Match": `"${code.value}-${draft.basedOn.value}"` } },
          body: { plan: sent, summary },
        }),
      );
      draft.settle(sent, done.version);
      said.value = `Saved as version ${done.version}: ${done.summary}${/[.!?]$/.test(done.summary) ? "" : "."}`;
      await client.invalidateQueries();
      await assess();
    } catch (caught) {
      if (caught instanceof ApiError && caught.problem.code === "stale") stale.value = caught.problem;
      else refused.value = caught;
    } finally {
      saving.value = false;
    }
  }

  async function takeTheirs() {
    const theirs = await client.fetchQuery({
      queryKey: ["plan", code.value, "newest"],
      queryFn: () => take(api.GET("/api/v1/plans/{code}", { params: { path: { code: code.value } } })),
      staleTime: 0,
    });
    draft.rebase((stale.value?.merged ?? theirs.plan) as Plan, theirs.version, theirs.plan);
    stale.value = null;
    await client.invalidateQueries({ queryKey: ["plan", code.value] });
    await assess();
  }

  async function mend(finding: Finding) {
    if (!plan.value) return;
    refused.value = null;
    const body = { plan: plan.value, code: finding.code, subject: finding.subject, part: finding.part, others: finding.others };
    try {
      const better = await take(api.POST("/api/v1/plans/{code}/mend", { params: { path: { code: code.value } }, body }));
      draft.edit((next) => Object.assign(next, better.plan));
    } catch (caught) {
      refused.value = caught;
    }
  }

  function discard() {
    if (detail.value) draft.settle(detail.value.plan, detail.value.version);
  }

  return { detail, error, draft, plan, assessment, reckoning, problem, stale, saving, said, save, takeTheirs, mend, discard };
}
export type PlanEditor = ReturnType<typeof usePlanEditor>;
