"""Addresses of plans."""

from django.urls import path

from maestoso.server.plans import views

PLAN = "plans/<str:code>"

urlpatterns = [
    path("plan-files/schema", views.PlanFileSchemaView.as_view(), name="plan-file-schema"),
    path("plan-templates", views.TemplatesView.as_view(), name="plan-templates"),
    path("plan-suggestions", views.SuggestionsView.as_view(), name="plan-suggestions"),
    path(PLAN, views.PlanView.as_view(), name="plan"),
    path(f"{PLAN}/file", views.PlanFileView.as_view(), name="plan-file"),
    path(f"{PLAN}/versions/<int:number>", views.VersionOfPlan.as_view(), name="plan-version"),
]
