import { ref } from "vue";
import { createRouter, createWebHistory } from "vue-router";

declare module "vue-router" {
  interface RouteMeta {
    title: string;
    /** The section of the documents that says what the page is for: `plans#editing-one`. */
    help: string;
    /** For whoever is not signed in, too. */
    anybody?: boolean;
  }
}

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: "/", name: "readiness", meta: { title: "Readiness", help: "readiness" }, component: () => import("@/features/readiness/ReadinessPage.vue") },
    { path: "/plans", name: "plans", meta: { title: "Plans", help: "plans" }, component: () => import("@/features/plans/PlansPage.vue") },
    { path: "/plans/new", name: "new-plan", meta: { title: "New plan", help: "plans#making-one" }, component: () => import("@/features/plans/NewPlanPage.vue") },
    { path: "/plans/:code", name: "plan", meta: { title: "Plan", help: "plans#editing-one" }, component: () => import("@/features/plans/PlanPage.vue") },
    { path: "/plans/:code/start", name: "start", meta: { title: "Start", help: "runs" }, component: () => import("@/features/runs/StartPage.vue") },
    { path: "/plans/:code/landings", name: "plan-landings", meta: { title: "Landings", help: "crosswalks#how-an-address-is-decided" }, component: () => import("@/features/plans/LandingsPage.vue") },
    { path: "/crosswalks", name: "crosswalks", meta: { title: "Crosswalks", help: "crosswalks" }, component: () => import("@/features/crosswalks/CrosswalksPage.vue") },
    { path: "/crosswalks/:source/:target", name: "crosswalk", meta: { title: "Crosswalk", help: "crosswalks#on-the-page" }, component: () => import("@/features/crosswalks/CrosswalkPage.vue") },
    { path: "/estate", name: "estate", meta: { title: "Estate", help: "estate" }, component: () => import("@/features/estate/EstatePage.vue") },
    { path: "/estate/sites", name: "sites", meta: { title: "Sites", help: "estate#drift" }, component: () => import("@/features/estate/SitesPage.vue") },
    { path: "/estate/uses", name: "uses", meta: { title: "Dependencies", help: "estate" }, component: () => import("@/features/estate/UsesPage.vue") },
    { path: "/estate/import", name: "import", meta: { title: "Import", help: "estate#files" }, component: () => import("@/features/estate/ImportPage.vue") },
    { path: "/protection", name: "protection", meta: { title: "Protection", help: "protection" }, component: () => import("@/features/protection/ProtectionPage.vue") },
    { path: "/protection/new", name: "new-group", meta: { title: "New group", help: "protection#policy" }, component: () => import("@/features/protection/GroupEditor.vue") },
    { path: "/protection/:code", name: "group", meta: { title: "Group", help: "protection#groups" }, component: () => import("@/features/protection/GroupPage.vue") },
    { path: "/protection/:code/edit", name: "edit-group", meta: { title: "Group", help: "protection#policy" }, component: () => import("@/features/protection/GroupEditor.vue") },
    { path: "/scripts", name: "scripts", meta: { title: "Scripts", help: "plans#scripts-and-secrets" }, component: () => import("@/features/scripts/ScriptsPage.vue") },
    { path: "/runs", name: "runs", meta: { title: "Runs", help: "runs" }, component: () => import("@/features/runs/RunsPage.vue") },
    { path: "/runs/:id(\\d+)", name: "run", meta: { title: "Run", help: "runs#order" }, component: () => import("@/features/runs/RunPage.vue") },
    { path: "/runs/:id(\\d+)/landings", name: "run-landings", meta: { title: "Landings of a run", help: "crosswalks#planned-and-actual" }, component: () => import("@/features/runs/LandingsPage.vue") },
    { path: "/runs/:id(\\d+)/evidence", name: "run-evidence", meta: { title: "Evidence of a run", help: "evidence#the-report-of-a-run" }, component: () => import("@/features/evidence/RunEvidencePage.vue") },
    { path: "/runs/:id(\\d+)/compared/:other(\\d+)", name: "compared", meta: { title: "Two runs", help: "evidence#two-runs-beside-each-other" }, component: () => import("@/features/evidence/ComparePage.vue") },
    { path: "/evidence", name: "proof", meta: { title: "Proof", help: "evidence#what-is-proved" }, component: () => import("@/features/evidence/ProofPage.vue") },
    { path: "/evidence/calendar", name: "calendar", meta: { title: "Drill calendar", help: "evidence#the-drill-calendar" }, component: () => import("@/features/evidence/CalendarPage.vue") },
    { path: "/evidence/check", name: "check", meta: { title: "Check", help: "evidence#the-seal" }, component: () => import("@/features/evidence/CheckPage.vue") },
    { path: "/evidence/audit", name: "audit", meta: { title: "Audit trail", help: "evidence#the-audit-trail" }, component: () => import("@/features/evidence/AuditPage.vue") },
    { path: "/evidence/reports", redirect: "/settings" },
    { path: "/evidence/plans/:code", name: "trend", meta: { title: "Trend", help: "evidence#what-is-proved" }, component: () => import("@/features/evidence/TrendPage.vue") },
    { path: "/settings", name: "settings", meta: { title: "Settings", help: "settings" }, component: () => import("@/features/settings/OrganisationPage.vue") },
    { path: "/settings/backups", name: "backups", meta: { title: "Backups", help: "operations" }, component: () => import("@/features/settings/BackupsPage.vue") },
    { path: "/takeover", name: "takeover", meta: { title: "Take over", help: "operations#the-standby" }, component: () => import("@/features/settings/TakeoverPage.vue") },
    { path: "/settings/messages", name: "messages", meta: { title: "Messages", help: "messages" }, component: () => import("@/features/messages/MessagesPage.vue") },
    { path: "/settings/names", name: "names", meta: { title: "Names", help: "names" }, component: () => import("@/features/settings/NamesPage.vue") },
    { path: "/settings/retired", name: "retired", meta: { title: "Retired", help: "settings" }, component: () => import("@/features/settings/RetiredPage.vue") },
    { path: "/settings/people", name: "people", meta: { title: "People", help: "people" }, component: () => import("@/features/people/PeoplePage.vue") },
    { path: "/settings/sign-in", name: "sign-in", meta: { title: "Sign-in", help: "people#an-identity-provider" }, component: () => import("@/features/people/SignInPage.vue") },
    { path: "/sign-in/provider", name: "provider-return", meta: { title: "Sign-in", help: "people#an-identity-provider", anybody: true }, component: () => import("@/features/people/ProviderReturn.vue") },
    { path: "/approvals", name: "approvals", meta: { title: "Approvals", help: "people#second-signatures" }, component: () => import("@/features/approvals/ApprovalsPage.vue") },
    { path: "/approvals/:id(\\d+)", name: "approval", meta: { title: "Approval", help: "people#second-signatures" }, component: () => import("@/features/approvals/ApprovalPage.vue") },
    { path: "/jobs", name: "jobs", meta: { title: "Jobs", help: "scaling#jobs" }, component: () => import("@/features/jobs/JobsPage.vue") },
    { path: "/account", name: "account", meta: { title: "My account", help: "people#my-account" }, component: () => import("@/features/people/AccountPage.vue") },
    { path: "/invitation/:name/:secret", name: "invitation", meta: { title: "Invitation", help: "people#invitations", anybody: true }, component: () => import("@/features/people/InvitationPage.vue") },
    { path: "/lab", name: "lab", meta: { title: "Practice lab", help: "practice-lab" }, component: () => import("@/features/practice_lab/LabPage.vue") },
    { path: "/help/:topic?", name: "help", meta: { title: "Help", help: "readiness" }, component: () => import("@/features/help/HelpPage.vue") },
    { path: "/:rest(.*)", name: "nowhere", meta: { title: "No such page", help: "readiness" }, component: () => import("@/app/NowherePage.vue") },
  ],
});

// A page that cannot be loaded, as after a new release, is said in the shell, which offers to load all of it anew.
export const unloadable = ref("");
router.onError((_, to) => (unloadable.value = to.fullPath));
