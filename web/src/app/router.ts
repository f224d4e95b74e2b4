import { createRouter, createWebHistory } from "vue-router";

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: "/", name: "readiness", component: () => import("@/features/readiness/ReadinessPage.vue") },
    { path: "/plans/new", name: "new-plan", component: () => import("@/features/plans/NewPlanPage.vue") },
    { path: "/plans/:code", name: "plan", component: () => import("@/features/plans/PlanPage.vue") },
    { path: "/plans/:code/start", name: "start", component: () => import("@/features/runs/StartPage.vue") },
    { path: "/plans/:code/landings", name: "plan-landings", component: () => import("@/features/plans/LandingsPage.vue") },
    { path: "/crosswalks", name: "crosswalks", component: () => import("@/features/crosswalks/CrosswalksPage.vue") },
    { path: "/crosswalks/:source/:target", name: "crosswalk", component: () => import("@/features/crosswalks/CrosswalkPage.vue") },
    { path: "/estate", name: "estate", component: () => import("@/features/estate/EstatePage.vue") },
    { path: "/estate/sites", name: "sites", component: () => import("@/features/estate/SitesPage.vue") },
    { path: "/estate/uses", name: "uses", component: () => import("@/features/estate/UsesPage.vue") },
    { path: "/estate/import", name: "import", component: () => import("@/features/estate/ImportPage.vue") },
    { path: "/protection", name: "protection", component: () => import("@/features/protection/ProtectionPage.vue") },
    { path: "/protection/new", name: "new-group", component: () => import("@/features/protection/GroupEditor.vue") },
    { path: "/protection/:code", name: "group", component: () => import("@/features/protection/GroupPage.vue") },
    { path: "/protection/:code/edit", name: "edit-group", component: () => import("@/features/protection/GroupEditor.vue") },
    { path: "/scripts", name: "scripts", component: () => import("@/features/scripts/ScriptsPage.vue") },
    { path: "/runs", name: "runs", component: () => import("@/features/runs/RunsPage.vue") },
    { path: "/runs/:id(\\d+)", name: "run", component: () => import("@/features/runs/RunPage.vue") },
    { path: "/runs/:id(\\d+)/landings", name: "run-landings", component: () => import("@/features/runs/LandingsPage.vue") },
    { path: "/lab", name: "lab", component: () => import("@/features/practice_lab/LabPage.vue") },
    { path: "/:rest(.*)", name: "nowhere", component: () => import("@/app/NowherePage.vue") },
  ],
});
