"""Addresses of drills."""

from django.urls import path

from maestoso.server.drills import views

urlpatterns = [
    path("drills", views.DrillsView.as_view(), name="drills"),
    path("drills/try", views.TryView.as_view(), name="drill-try"),
    path("drills/<int:pk>", views.OneDrillView.as_view(), name="drill"),
    path("drills/calendar.ics", views.CalendarFile.as_view(), name="drill-calendar"),
    path("drills/feed", views.FeedView.as_view(), name="drill-feed"),
    path("blackouts", views.BlackoutsView.as_view(), name="blackouts"),
    path("blackouts/<int:pk>", views.OneBlackoutView.as_view(), name="blackout"),
]
