import { createRouter, createWebHistory } from "vue-router";

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: "/", name: "readiness", component: () => import("@/features/readiness/ReadinessPage.vue") },
    { path: "/plans/:code", name: "plan", component: () => import("@/features/plans/PlanPage.vue") },
    { path: "/plans/:code/start", name: "start", component: () => import("@/features/runs/StartPage.vue") },
    { path: "/runs", name: "runs", component: () => import("@/features/runs/RunsPage.vue") },
    { path: "/runs/:id(\\d+)", name: "run", component: () => import("@/features/runs/RunPage.vue") },
    { path: "/:rest(.*)", name: "nowhere", component: () => import("@/app/NowherePage.vue") },
  ],
});
