"""Addresses of comparisons."""

from django.urls import path

from .views import blind, comparison

app_name = "compare"
urlpatterns = [
    path("compare/", comparison.index, name="index"),
    path("compare/start/", comparison.start, name="start"),
    path("compare/<int:pk>/", comparison.comparison, name="comparison"),
    path("compare/<int:pk>/state/", comparison.state, name="state"),
    path("compare/<int:pk>/again/", comparison.again, name="again"),
    path("compare/<int:pk>/sound/<int:number>/", comparison.sound, name="sound"),
    path("compare/<int:pk>/picture/<int:number>/", comparison.picture, name="picture"),
    path("compare/<int:pk>/blind/", blind.start, name="start-blind"),
    path("blind/<int:pk>/", blind.blind, name="blind"),
    path("blind/<int:pk>/sound/<int:number>/<str:which>/", blind.sound, name="blind-sound"),
    path("blind/<int:pk>/answer/", blind.answer, name="answer"),
    path("blind/<int:pk>/results.csv", blind.export, {"kind": "csv"}, name="blind-csv"),
    path("blind/<int:pk>/results.json", blind.export, {"kind": "json"}, name="blind-json"),
]
