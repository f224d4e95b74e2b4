"""Addresses of evidence."""

from django.urls import path

from maestoso.server.evidence import views

urlpatterns = [
    path("runs/<int:pk>/evidence", views.EvidenceView.as_view(), name="run-evidence"),
    path("runs/<int:pk>/report.html", views.ReportHtml.as_view(), name="run-report-html"),
    path("runs/<int:pk>/report.pdf", views.ReportPdf.as_view(), name="run-report-pdf"),
    path("runs/<int:pk>/report.json", views.ReportJson.as_view(), name="run-report-json"),
    path("runs/<int:pk>/report.csv", views.ReportCsv.as_view(), name="run-report-csv"),
    path("runs/<int:pk>/evidence.jsonl", views.EvidenceFile.as_view(), name="run-evidence-file"),
    path("runs/<int:pk>/compared", views.ComparedView.as_view(), name="run-compared"),
    path("runs/<int:pk>/notes", views.NotesView.as_view(), name="run-notes"),
    path("runs/<int:pk>/files", views.FilesView.as_view(), name="run-files"),
    path("runs/<int:pk>/files/<int:number>", views.FileView.as_view(), name="run-file"),
    path("runs/<int:pk>/legal-hold", views.LegalHoldView.as_view(), name="run-legal-hold"),
    path("plans/<str:code>/trend", views.TrendView.as_view(), name="plan-trend"),
    path("evidence/verify", views.VerifyView.as_view(), name="verify"),
    path("evidence/keys", views.KeysView.as_view(), name="seal-keys"),
    path("evidence/sample.html", views.SampleHtml.as_view(), name="report-sample"),
    path("evidence/proof", views.ProofView.as_view(), name="proof"),
    path("evidence/archive.zip", views.ArchiveView.as_view(), name="evidence-archive"),
]
