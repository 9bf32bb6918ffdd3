"""Addresses of the bench."""

from django.urls import path

from .views import bench, taking

app_name = "bench"
urlpatterns = [
    path("bench/", bench.index, name="index"),
    path("bench/image/", bench.drop, name="drop"),
    path("bench/drive/<slug:drive>/put-in/", bench.put_in, name="put-in"),
    path("bench/drive/<slug:drive>/take-out/", bench.take_out, name="take-out"),
    path("bench/taken/<int:pk>/", taking.page, name="taken"),
    path("bench/taken/<int:pk>/state/", taking.state, name="state"),
    path("bench/taken/<int:pk>/choose/", taking.choose, name="choose"),
    path("bench/taken/<int:pk>/start/", taking.start, name="start"),
    path("bench/taken/<int:pk>/stop/", taking.stop, name="stop"),
    path("bench/taken/<int:pk>/keep/<int:number>/", taking.keep, name="keep"),
    path("bench/taken/<int:pk>/heard/<int:number>/", taking.heard, name="heard"),
]
