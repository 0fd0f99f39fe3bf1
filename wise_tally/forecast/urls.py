"""Addresses of the forecast."""

from django.urls import path

from wise_tally.forecast import views

app_name = "forecast"
urlpatterns = [
    path("", views.page, name="page"),
    path("working/<str:figure>/", views.working, name="working"),
    path("deals/", views.not_counted, name="not-counted"),
    path("table.<str:kind>", views.table, name="table"),
]
