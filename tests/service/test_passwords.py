"""Encrypted files: they wait for the password of their flow, and go on when it is set."""

from __future__ import annotations

import hashlib
import io
import stat
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from pypdf import PdfReader, PdfWriter

from metrikon.cli import main
from metrikon.demo import scenario
from metrikon.demo.mixed import archive
from metrikon.ports.reader import Refused
from metrikon.readers.registry import parts, picture, read
from tests.helpers import Running

Start = Callable[..., Running]
FERNHILL = scenario.document("01-fernhill-nurseries.pdf")
# an archive of one file, fern.txt, made by a packer with the password "fern"
LOCKED_ZIP = bytes.fromhex(
    "504b03040a0009000000f675775d1d8ba056180000000c000000080000006665726e2e7478748af1164ede9531981945d51bc92a0a91"
    "d50c455dc1bc73f8504b07081d8ba056180000000c000000504b01021e030a0009000000f675775d1d8ba056180000000c0000000800"
    "00000000000001000000a481000000006665726e2e747874504b05060000000001000100360000004e0000000000"
)


def locked(password: str) -> bytes:
    """The demo's first invoice, opened by a password only."""
    writer = PdfWriter(clone_from=PdfReader(io.BytesIO(FERNHILL)))
    writer.encrypt(password, algorithm="RC4-128")
    out = io.BytesIO()
    writer.write(out)
    return out.getvalue()


def test_an_encrypted_pdf_is_read_with_one_of_the_passwords_given() -> None:
    data = locked("fern")
    with pytest.raises(Refused) as refused:
        read(data)
    assert refused.value.code == "encrypted"
    assert "password" in refused.value.reason
    found = read(data, passwords=("moss", "fern"))
    assert [w.text for w in found.pages[0].words] == [w.text for w in read(FERNHILL).pages[0].words]
    assert found.sha256 == hashlib.sha256(data).hexdigest()
    assert picture(data, 1, passwords=("fern",)).startswith(b"\x89PNG")


def test_an_encrypted_archive_is_opened_with_its_password() -> None:
    with pytest.raises(Refused) as refused:
        list(parts(LOCKED_ZIP))
    assert refused.value.code == "encrypted"
    assert [(part.name, data) for part, data in parts(LOCKED_ZIP, passwords=("moss", "fern"))] == [("fern.txt", b"fern leaves\n")]


def test_a_run_waits_for_the_password_and_goes_on_with_it(running: Start) -> None:
    service = running()
    data = locked("fern")
    sent = service.client.upload(scenario.FLOW, data, name="locked.pdf")
    run = service.client.wait(sent.run_id)
    assert run.state == "parked"
    assert "Set the password" in run.reason
    assert service.client.put_passwords(scenario.FLOW, ["moss", "fern"]) == 2
    service.client.continue_run(sent.run_id)
    assert service.client.wait(sent.run_id).state == "done"
    (record,) = service.client.records(record_type="invoice")
    drawn = service.client._http.get(f"/api/documents/{hashlib.sha256(data).hexdigest()}/pages/1/picture")
    assert (record.values["vendor"], drawn.status_code) == ("Fernhill Nurseries Ltd", 200)
    place = service.app.home / "passwords.json"
    assert stat.S_IMODE(place.stat().st_mode) == 0o600


def test_passwords_come_from_the_standard_input_and_are_never_shown(running: Start, tmp_path: Path) -> None:
    service = running()
    command = [sys.executable, "-m", "metrikon.cli", "flows", "passwords", scenario.FLOW, "--url", service.url, "--token", service.token]
    done = subprocess.run(command, input="fern\nmoss\n\n", capture_output=True, text=True, check=True)
    assert "has 2 passwords" in done.stdout
    assert service.app.passwords.of(scenario.FLOW) == ("fern", "moss")
    assert service.app.passwords.of("another") == ()
    assert "fern" not in service.client._http.get("/api/flows").text
    file, given = tmp_path / "locked.pdf", tmp_path / "passwords.txt"
    file.write_bytes(locked("fern"))
    given.write_text("fern\n")
    assert main(["read", str(file)], io.StringIO(), io.StringIO()) == 2
    out = io.StringIO()
    assert main(["read", str(file), "--passwords", str(given)], out, io.StringIO()) == 0
    assert "Fernhill Nurseries Ltd" in out.getvalue()


def test_an_archive_sent_by_hand_answers_with_every_item(running: Start) -> None:
    service = running()
    other = scenario.document("02-moorgate-seed.pdf")
    sent = service.client.upload(scenario.FLOW, archive([("a.pdf", FERNHILL), ("b.pdf", other)]), name="post.zip")
    assert len(sent.others) == 1
    assert {service.client.wait(each.run_id).item_name for each in (sent, *sent.others)} == {"post.zip, a.pdf", "post.zip, b.pdf"}


def encrypted_sheet(password: str) -> bytes:
    """The demo's price list as a workbook that a password opens."""
    from msoffcrypto.format.ooxml import OOXMLFile
    from openpyxl import Workbook

    book, plain, out = Workbook(), io.BytesIO(), io.BytesIO()
    sheet = book.active
    assert sheet is not None
    for row in (("Plant", "Price"), ("Royal fern", 4.5), ("Lady fern", 3.1)):
        sheet.append(row)
    book.save(plain)
    OOXMLFile(io.BytesIO(plain.getvalue())).encrypt(password, out)
    return out.getvalue()


def test_an_encrypted_office_document_is_opened_with_its_password() -> None:
    data = encrypted_sheet("fern")
    with pytest.raises(Refused) as refused:
        read(data)
    assert refused.value.code == "encrypted"
    found = read(data, passwords=("moss", "fern"))
    assert [cell.text for cell in found.tables[0].rows[0]] == ["Royal fern", "4.5"]
    with pytest.raises(Refused, match="password"):
        read(data, passwords=("moss",))


def test_an_archive_with_aes_encryption_is_opened_with_its_password() -> None:
    import pyzipper

    out = io.BytesIO()
    with pyzipper.AESZipFile(out, "w", compression=pyzipper.ZIP_DEFLATED, encryption=pyzipper.WZ_AES) as archive:
        archive.setpassword(b"fern")
        archive.writestr("fern.txt", b"fern leaves\n")
    with pytest.raises(Refused) as refused:
        list(parts(out.getvalue()))
    assert refused.value.code == "encrypted"
    assert [(part.name, data) for part, data in parts(out.getvalue(), passwords=("moss", "fern"))] == [("fern.txt", b"fern leaves\n")]
