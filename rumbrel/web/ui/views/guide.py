"""The guide, as the application shows it."""

from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from ..guide import guide_page, guide_pages, picture_path, way_pages

__all__ = ["index", "page", "picture"]


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    return render(request, "ui/guide.html", {"stations": guide_pages(), "ways": way_pages()})


@require_safe
def page(request: HttpRequest, slug: str) -> HttpResponse:
    found = guide_page(slug)
    if found is None:
        raise Http404("The guide has no page of that name.")
    return render(request, "ui/guide_page.html", {"page": found, "stations": guide_pages(), "ways": way_pages()})


@require_safe
def picture(request: HttpRequest, name: str) -> FileResponse:
    path = picture_path(name)
    if path is None:
        raise Http404("The guide has no picture of that name.")
    return FileResponse(path.open("rb"), content_type="image/png", headers={"Cache-Control": "private, max-age=3600"})
