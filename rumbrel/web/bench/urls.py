"""Addresses of the bench."""

from django.urls import path

from .views import bench, deliveries, player, taking, volumes

app_name = "bench"
urlpatterns = [
    path("bench/", bench.index, name="index"),
    path("bench/image/", bench.drop, name="drop"),
    path("bench/practice/", bench.practice, name="practice"),
    path("bench/drive/<slug:drive>/put-in/", bench.put_in, name="put-in"),
    path("bench/drive/<slug:drive>/take-out/", bench.take_out, name="take-out"),
    path("bench/drive/<slug:drive>/copy/", bench.copy, name="copy"),
    path("bench/taken/<int:pk>/copy/", taking.copy, name="copy-taken"),
    path("bench/taken/<int:pk>/", taking.page, name="taken"),
    path("bench/taken/<int:pk>/state/", taking.state, name="state"),
    path("bench/taken/<int:pk>/choose/", taking.choose, name="choose"),
    path("bench/taken/<int:pk>/start/", taking.start, name="start"),
    path("bench/taken/<int:pk>/stop/", taking.stop, name="stop"),
    path("bench/taken/<int:pk>/keep/<int:number>/", taking.keep, name="keep"),
    path("bench/taken/<int:pk>/heard/<int:number>/", taking.heard, name="heard"),
    path("bench/recorder/<slug:recorder>/put-in/", bench.blank_in, name="blank-in"),
    path("bench/recorder/<slug:recorder>/take-out/", bench.blank_out, name="blank-out"),
    path("bench/player/", player.page, name="player"),
    path("bench/player/put-in/", player.put_in, name="player-in"),
    path("bench/player/take-out/", player.take_out, name="player-out"),
    path("bench/player/track/<slug:part>/", player.played, name="player-track"),
    path("bench/volumes/add/", volumes.add, name="add-volume"),
    path("bench/volume/<int:pk>/", volumes.page, name="volume"),
    path("bench/volume/<int:pk>/change/", volumes.change, name="change-volume"),
    path("bench/volume/<int:pk>/plug/", volumes.plug, name="plug"),
    path("bench/volume/<int:pk>/read/", volumes.look, name="look-volume"),
    path("bench/volume/<int:pk>/check/", volumes.check, name="check-volume"),
    path("bench/volume/<int:pk>/format/", volumes.formatting, name="format"),
    path("bench/volume/<int:pk>/format/start/", volumes.format_anew, name="format-anew"),
    path("bench/volume/<int:pk>/remove/", volumes.remove, name="remove-volume"),
    path("bench/volume/<int:pk>/deliver/", deliveries.make, name="make-delivery"),
    path("bench/volume/<int:pk>/repair/", deliveries.put_right, name="put-right"),
    path("bench/delivery/<int:pk>/", deliveries.page, name="delivery"),
    path("bench/delivery/<int:pk>/state/", deliveries.state, name="delivery-state"),
    path("bench/delivery/<int:pk>/start/", deliveries.start, name="start-delivery"),
    path("bench/delivery/<int:pk>/stop/", deliveries.stop, name="stop-delivery"),
    path("bench/delivery/<int:pk>/leave-out/", deliveries.leave_out, name="leave-out"),
    path("bench/delivery/<int:pk>/choose/", deliveries.choose, name="choose-delivery"),
    path("bench/delivery/<int:pk>/digests/", deliveries.digests, name="delivery-digests"),
    path("bench/delivery/<int:pk>/all/", deliveries.take_back, name="take-back"),
]
