import { ref } from "vue";
import { createRouter, createWebHistory } from "vue-router";

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: "/", name: "readiness", meta: { title: "Readiness" }, component: () => import("@/features/readiness/ReadinessPage.vue") },
    { path: "/plans/new", name: "new-plan", meta: { title: "New plan" }, component: () => import("@/features/plans/NewPlanPage.vue") },
    { path: "/plans/:code", name: "plan", meta: { title: "Plan" }, component: () => import("@/features/plans/PlanPage.vue") },
    { path: "/plans/:code/start", name: "start", meta: { title: "Start" }, component: () => import("@/features/runs/StartPage.vue") },
    { path: "/plans/:code/landings", name: "plan-landings", meta: { title: "Landings" }, component: () => import("@/features/plans/LandingsPage.vue") },
    { path: "/crosswalks", name: "crosswalks", meta: { title: "Crosswalks" }, component: () => import("@/features/crosswalks/CrosswalksPage.vue") },
    { path: "/crosswalks/:source/:target", name: "crosswalk", meta: { title: "Crosswalk" }, component: () => import("@/features/crosswalks/CrosswalkPage.vue") },
    { path: "/estate", name: "estate", meta: { title: "Estate" }, component: () => import("@/features/estate/EstatePage.vue") },
    { path: "/estate/sites", name: "sites", meta: { title: "Sites" }, component: () => import("@/features/estate/SitesPage.vue") },
    { path: "/estate/uses", name: "uses", meta: { title: "What uses what" }, component: () => import("@/features/estate/UsesPage.vue") },
    { path: "/estate/import", name: "import", meta: { title: "Import" }, component: () => import("@/features/estate/ImportPage.vue") },
    { path: "/protection", name: "protection", meta: { title: "Protection" }, component: () => import("@/features/protection/ProtectionPage.vue") },
    { path: "/protection/new", name: "new-group", meta: { title: "New group" }, component: () => import("@/features/protection/GroupEditor.vue") },
    { path: "/protection/:code", name: "group", meta: { title: "Group" }, component: () => import("@/features/protection/GroupPage.vue") },
    { path: "/protection/:code/edit", name: "edit-group", meta: { title: "Group" }, component: () => import("@/features/protection/GroupEditor.vue") },
    { path: "/scripts", name: "scripts", meta: { title: "Scripts" }, component: () => import("@/features/scripts/ScriptsPage.vue") },
    { path: "/runs", name: "runs", meta: { title: "Runs" }, component: () => import("@/features/runs/RunsPage.vue") },
    { path: "/runs/:id(\\d+)", name: "run", meta: { title: "Run" }, component: () => import("@/features/runs/RunPage.vue") },
    { path: "/runs/:id(\\d+)/landings", name: "run-landings", meta: { title: "Landings of a run" }, component: () => import("@/features/runs/LandingsPage.vue") },
    { path: "/runs/:id(\\d+)/evidence", name: "run-evidence", meta: { title: "Evidence of a run" }, component: () => import("@/features/evidence/RunEvidencePage.vue") },
    { path: "/runs/:id(\\d+)/compared/:other(\\d+)", name: "compared", meta: { title: "Two runs" }, component: () => import("@/features/evidence/ComparePage.vue") },
    { path: "/evidence", name: "proof", meta: { title: "Proof" }, component: () => import("@/features/evidence/ProofPage.vue") },
    { path: "/evidence/calendar", name: "calendar", meta: { title: "Drill calendar" }, component: () => import("@/features/evidence/CalendarPage.vue") },
    { path: "/evidence/check", name: "check", meta: { title: "Check" }, component: () => import("@/features/evidence/CheckPage.vue") },
    { path: "/evidence/audit", name: "audit", meta: { title: "Audit trail" }, component: () => import("@/features/evidence/AuditPage.vue") },
    { path: "/evidence/reports", redirect: "/settings" },
    { path: "/evidence/plans/:code", name: "trend", meta: { title: "Trend" }, component: () => import("@/features/evidence/TrendPage.vue") },
    { path: "/settings", name: "settings", meta: { title: "Settings" }, component: () => import("@/features/settings/OrganisationPage.vue") },
    { path: "/settings/retired", name: "retired", meta: { title: "Retired" }, component: () => import("@/features/settings/RetiredPage.vue") },
    { path: "/lab", name: "lab", meta: { title: "Practice lab" }, component: () => import("@/features/practice_lab/LabPage.vue") },
    { path: "/:rest(.*)", name: "nowhere", meta: { title: "No such page" }, component: () => import("@/app/NowherePage.vue") },
  ],
});

// A page that cannot be loaded, as after a new release, is said in the shell, which offers to load all of it anew.
export const unloadable = ref("");
router.onError((_, to) => (unloadable.value = to.fullPath));
