"""Addresses of the estate."""

from django.urls import path

from maestoso.server.estate import site_views, workload_views

urlpatterns = [
    path("sites", site_views.SitesView.as_view(), name="sites"),
    path("sites/<str:code>", site_views.SiteDetailView.as_view(), name="site"),
    path("sites/<str:code>/host-pools/<str:name>", site_views.HostPoolView.as_view(), name="host-pool"),
    path(
        "sites/<str:code>/storage-pools/<str:name>", site_views.StoragePoolView.as_view(), name="storage-pool"
    ),
    path("sites/<str:code>/networks/<str:name>", site_views.NetworkView.as_view(), name="network"),
    path("sites/<str:code>/front-doors/<str:name>", site_views.FrontDoorView.as_view(), name="front-door"),
    path("sites/<str:code>/agent", site_views.AgentView.as_view(), name="site-agent"),
    path("sites/<str:code>/agent/token", site_views.AgentTokenView.as_view(), name="site-agent-token"),
    path("sites/<str:code>/forgot/seen", site_views.ForgotView.as_view(), name="site-forgot-seen"),
    path("sites/<str:code>/drift", site_views.DriftView.as_view(), name="drift"),
    path("links", site_views.LinksView.as_view(), name="links"),
    path("links/<str:one>/<str:other>", site_views.LinkView.as_view(), name="link"),
    path("workloads", workload_views.WorkloadsView.as_view(), name="workloads"),
    path("workloads/<str:name>", workload_views.WorkloadView.as_view(), name="workload"),
    path("retired", site_views.RetiredThings.as_view(), name="retired"),
    path("retired/<int:pk>/back", site_views.RetiredThing.as_view(), name="bring-back"),
    path("workload-tags", workload_views.TagsView.as_view(), name="workload-tags"),
    path("uses", workload_views.UsesView.as_view(), name="uses"),
    path("filters", workload_views.SavedFiltersView.as_view(), name="filters"),
    path("filters/<str:name>", workload_views.SavedFilterDetailView.as_view(), name="filter"),
    path("export", workload_views.ExportView.as_view(), name="export"),
    path("imports", site_views.ImportsView.as_view(), name="imports"),
    path("imports/<int:pk>", site_views.ImportDetailView.as_view(), name="import"),
]
