"""Addresses of imports."""

from django.urls import path

from wise_tally.pages.setup.imports import views

app_name = "imports"
urlpatterns = [
    path("", views.imports, name="imports"),
    path("look-around/", views.look_around, name="look-around"),
    path("ledger/", views.ledger, name="ledger"),
    path("<int:number>/", views.one, name="import"),
    path("<int:number>/rows-to-mend.csv", views.faulty, name="faulty"),
    path("<int:number>/change/", views.change, name="import-change"),
]
