"""Addresses of discs."""

from django.urls import path

from .views import copying, discs, inlay, results, writing

app_name = "discs"
urlpatterns = [
    path("discs/", discs.index, name="index"),
    path("discs/from-pulled/", discs.from_pulled, name="from-pulled"),
    path("discs/<int:pk>/", discs.disc, name="disc"),
    path("discs/<int:pk>/body/", discs.body, name="body"),
    path("discs/<int:pk>/act/<slug:name>/", discs.act, name="act"),
    path("discs/<int:pk>/undo/", discs.undo, name="undo"),
    path("discs/<int:pk>/follow/", discs.follow, name="follow"),
    path("discs/<int:pk>/measure/", discs.measure, name="measure"),
    path("discs/<int:pk>/measuring/", discs.measuring, name="measuring"),
    path("discs/<int:pk>/offer/", discs.offer, name="offer"),
    path("discs/<int:pk>/preview/", discs.preview, name="preview"),
    path("discs/<int:pk>/filling/", discs.fill, name="fill"),
    path("discs/<int:pk>/filling/take/", discs.take_filling, name="take-filling"),
    path("discs/<int:pk>/track/<int:key>/", discs.track, name="track"),
    path("discs/<int:pk>/write/", writing.page, name="writing"),
    path("discs/<int:pk>/write/stage/", writing.stage, name="stage"),
    path("discs/<int:pk>/write/choose/", writing.choose, name="choose"),
    path("discs/<int:pk>/write/start/", writing.write, name="write"),
    path("discs/<int:pk>/write/test/", writing.test, name="test"),
    path("discs/<int:pk>/write/stop/", writing.stop, name="stop"),
    path("discs/<int:pk>/tray/<slug:name>/", writing.tray, name="tray"),
    path("discs/<int:pk>/image/<str:kind>/", results.download, name="image"),
    path("discs/<int:pk>/archive/", results.archive, name="archive"),
    path("discs/<int:pk>/sheet/", results.sheet, name="sheet"),
    path("discs/<int:pk>/forms/<slug:kind>/", results.make_form, name="make-form"),
    path("discs/<int:pk>/played/<int:number>/", results.played, name="played"),
    path("discs/<int:pk>/seam/<int:key>/", results.seam, name="seam"),
    path("discs/<int:pk>/inlay/", inlay.page, name="inlay"),
    path("discs/<int:pk>/inlay/<slug:piece>.<slug:form>", inlay.printed, name="printed"),
    path("discs/copies/<int:pk>/", copying.page, name="copy"),
    path("discs/copies/<int:pk>/state/", copying.state, name="copy-state"),
    path("discs/copies/<int:pk>/stop/", copying.stop, name="stop-copy"),
    path("playlists/<int:pk>/disc/", discs.lay_out, name="lay-out"),
    path("tracks/<int:pk>/disc/", discs.lay_out_sheet, name="lay-out-sheet"),
]
