"""Addresses of what plans would do, and of the start of runs."""

from django.urls import path

from maestoso.server.readiness import approval_views, views

PLAN = "plans/<str:code>"

urlpatterns = [
    path("runs", views.RunsView.as_view(), name="runs"),
    path("approvals", approval_views.ApprovalsView.as_view(), name="approvals"),
    path("approvals/deeds", approval_views.DeedsView.as_view(), name="approvals-of-deeds"),
    path("approvals/<int:pk>", approval_views.ApprovalView.as_view(), name="approval"),
    path("approvals/<int:pk>/answer", approval_views.AnswerView.as_view(), name="approval-answer"),
    path("approval-rules", approval_views.RulesView.as_view(), name="approval-rules"),
    path("plan-files", views.PlanFilesView.as_view(), name="plan-files"),
    path(f"{PLAN}/assessment", views.AssessmentOfDraft.as_view(), name="plan-assessment"),
    path(f"{PLAN}/landings", views.PlanLandingsView.as_view(), name="plan-landings"),
    path(f"{PLAN}/helps", views.HelpsOfDraft.as_view(), name="plan-helps"),
    path(f"{PLAN}/rehearsal", views.RehearsalOfDraft.as_view(), name="plan-rehearsal"),
    path(f"{PLAN}/calibration", views.CalibrationOfPlan.as_view(), name="plan-calibration"),
    path(f"{PLAN}/mend", views.MendOfDraft.as_view(), name="plan-mend"),
    path(f"{PLAN}/points", views.PointsView.as_view(), name="plan-points"),
    path(f"{PLAN}/preflight", views.PreflightView.as_view(), name="plan-preflight"),
    path(f"{PLAN}/run-book", views.RunBook.as_view(), name="plan-run-book"),
    path(f"{PLAN}/run-book.pdf", views.RunBookPdf.as_view(), name="plan-run-book-pdf"),
]
