"""Everything taken out in the browser: the whole workspace as one package, and the files of backups."""

import io
import tempfile
import zipfile
from pathlib import Path

from django.http import FileResponse, Http404, HttpResponse
from django.http.response import HttpResponseBase
from django.views.decorators.http import require_safe

from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now, today
from wise_tally.operation.backup import backups_made, folder
from wise_tally.package.writing import write_package
from wise_tally.web.request.permissions import all_needs
from wise_tally.web.request.viewing import PageRequest


@require_safe
@all_needs(May.SET_ORGANISATION)
def package(request: PageRequest) -> HttpResponse:
    """The workspace as a package in one zip file, as it is at this moment; read back by `./tally import`."""
    packed = io.BytesIO()
    with tempfile.TemporaryDirectory() as folder, zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        write_package(Path(folder), now())
        for file in sorted(Path(folder).rglob("*")):
            archive.write(file, file.relative_to(folder))
    answer = HttpResponse(packed.getvalue(), content_type="application/zip")
    answer["Content-Disposition"] = f'attachment; filename="wise-tally-{today()}.zip"'
    return answer


@require_safe
@all_needs(May.SET_ORGANISATION)
def backup_file(request: PageRequest, name: str) -> HttpResponseBase:
    """The file of a backup; a name that is none of them looks like what is not there."""
    if name not in {backup.name for backup in backups_made()}:
        raise Http404
    return FileResponse((folder() / name).open("rb"), as_attachment=True, filename=name)
