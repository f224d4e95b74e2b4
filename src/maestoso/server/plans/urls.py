"""Addresses of plans."""

from django.urls import path

from maestoso.server.plans.views import (
    AssessmentOfDraft,
    PlanLandingsView,
    PlanView,
    PointsView,
    PreflightView,
    ReadinessView,
)

urlpatterns = [
    path("readiness", ReadinessView.as_view(), name="readiness"),
    path("plans/<str:code>", PlanView.as_view(), name="plan"),
    path("plans/<str:code>/assessment", AssessmentOfDraft.as_view(), name="plan-assessment"),
    path("plans/<str:code>/landings", PlanLandingsView.as_view(), name="plan-landings"),
    path("plans/<str:code>/points", PointsView.as_view(), name="plan-points"),
    path("plans/<str:code>/preflight", PreflightView.as_view(), name="plan-preflight"),
]
