"""Addresses of crosswalks."""

from django.urls import path

from maestoso.server.crosswalks import views

WAY = "crosswalks/<str:source>/<str:target>"

urlpatterns = [
    path("crosswalks", views.CrosswalksView.as_view(), name="crosswalks"),
    path("crosswalks/landings", views.LandingsOfDraft.as_view(), name="crosswalk-landings"),
    path("crosswalks/proposals", views.ProposalsView.as_view(), name="crosswalk-proposals"),
    path("crosswalks/trial", views.TrialView.as_view(), name="crosswalk-trial"),
    path(WAY, views.CrosswalkView.as_view(), name="crosswalk"),
    path(f"{WAY}/twin", views.TwinView.as_view(), name="crosswalk-twin"),
    path(f"{WAY}/table.csv", views.TableView.as_view(), name="crosswalk-table"),
    path(f"{WAY}/landings.csv", views.ExportView.as_view(), name="crosswalk-export"),
    path("sites/<str:code>/landings", views.HeldLandingsView.as_view(), name="held-landings"),
]
