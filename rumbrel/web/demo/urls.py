"""Addresses of the tour."""

from django.urls import path

from . import views

app_name = "demo"
urlpatterns = [path("tour/next/", views.to_next, name="tour-next"), path("tour/leave/", views.leave, name="tour-leave")]
