"""Addresses of plans."""

from django.urls import path

from maestoso.server.plans import views

PLAN = "plans/<str:code>"

urlpatterns = [
    path("readiness", views.ReadinessView.as_view(), name="readiness"),
    path("plans", views.PlansView.as_view(), name="plans"),
    path("plan-files", views.PlanFilesView.as_view(), name="plan-files"),
    path("plan-files/schema", views.PlanFileSchemaView.as_view(), name="plan-file-schema"),
    path("plan-templates", views.TemplatesView.as_view(), name="plan-templates"),
    path("plan-suggestions", views.SuggestionsView.as_view(), name="plan-suggestions"),
    path("traps", views.TrapsView.as_view(), name="traps"),
    path("traps/<int:pk>/solved", views.SolvedTrap.as_view(), name="trap-solved"),
    path(PLAN, views.PlanView.as_view(), name="plan"),
    path(f"{PLAN}/assessment", views.AssessmentOfDraft.as_view(), name="plan-assessment"),
    path(f"{PLAN}/file", views.PlanFileView.as_view(), name="plan-file"),
    path(f"{PLAN}/landings", views.PlanLandingsView.as_view(), name="plan-landings"),
    path(f"{PLAN}/helps", views.HelpsOfDraft.as_view(), name="plan-helps"),
    path(f"{PLAN}/rehearsal", views.RehearsalOfDraft.as_view(), name="plan-rehearsal"),
    path(f"{PLAN}/calibration", views.CalibrationOfPlan.as_view(), name="plan-calibration"),
    path(f"{PLAN}/mend", views.MendOfDraft.as_view(), name="plan-mend"),
    path(f"{PLAN}/points", views.PointsView.as_view(), name="plan-points"),
    path(f"{PLAN}/preflight", views.PreflightView.as_view(), name="plan-preflight"),
    path(f"{PLAN}/run-book", views.RunBook.as_view(), name="plan-run-book"),
    path(f"{PLAN}/run-book.pdf", views.RunBookPdf.as_view(), name="plan-run-book-pdf"),
    path(f"{PLAN}/versions/<int:number>", views.VersionOfPlan.as_view(), name="plan-version"),
]
