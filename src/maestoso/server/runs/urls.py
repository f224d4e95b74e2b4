"""Addresses of runs."""

from django.urls import path

from maestoso.server.runs import trap_views
from maestoso.server.runs.views import (
    ControlsView,
    EventsView,
    FoundRunningView,
    LandingsView,
    ReviewView,
    RunView,
    RunViewsView,
    StepView,
    TrapsView,
    TryAgainView,
)

urlpatterns = [
    path("traps", trap_views.TrapsView.as_view(), name="traps"),
    path("traps/<int:pk>/solved", trap_views.SolvedTrap.as_view(), name="trap-solved"),
    path("run-views", RunViewsView.as_view(), name="run-views"),
    path("runs/<int:pk>", RunView.as_view(), name="run"),
    path("runs/<int:pk>/try-again", TryAgainView.as_view(), name="run-try-again"),
    path("runs/<int:pk>/review", ReviewView.as_view(), name="run-review"),
    path("runs/<int:pk>/landings", LandingsView.as_view(), name="run-landings"),
    path("runs/<int:pk>/traps", TrapsView.as_view(), name="run-traps"),
    path("runs/<int:pk>/events", EventsView.as_view(), name="run-events"),
    path("runs/<int:pk>/step", StepView.as_view(), name="run-step"),
    path("runs/<int:pk>/found-running/seen", FoundRunningView.as_view(), name="run-found-running"),
    path("runs/<int:pk>/controls", ControlsView.as_view(), name="run-controls"),
]
