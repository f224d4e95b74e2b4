"""Addresses of jobs."""

from django.urls import path

from maestoso.server.jobs import views

urlpatterns = [
    path("jobs", views.JobList.as_view(), name="jobs"),
    path("jobs/<int:pk>", views.JobDetail.as_view(), name="job"),
    path("jobs/<int:pk>/result", views.JobResult.as_view(), name="job-result"),
]
