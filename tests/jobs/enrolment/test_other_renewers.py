"""Whatever else may renew the same files on this machine is named, by what its schedule says."""

from pathlib import Path

import pytest

from inkstamp.jobs.enrolment.other_renewers import other_renewers


@pytest.fixture
def files(tmp_path: Path) -> tuple[Path, Path]:
    """A site's certificate, a link into a folder with several of its kind; and a folder of schedules."""
    kept, live, schedules = (tmp_path / each for each in ("kept", "live", "cron.d"))
    for each in (kept, live, schedules):
        each.mkdir()
    for number in (1, 2):
        (kept / f"club{number}.pem").write_text("x")
    (live / "club.pem").symlink_to(kept / "club2.pem")
    return live / "club.pem", schedules


def test_a_schedule_that_names_the_files_or_the_folder_of_their_editions_is_found(files: tuple[Path, Path]) -> None:
    certificate, schedules = files
    (schedules / "backup").write_text("0 3 * * * root tar cz /home\n")
    (schedules / "other").write_text(f"0 4 * * * root /opt/renewer --write {certificate}\n")
    (schedules / "kept").write_text(f"0 5 * * * root /opt/sweeper {certificate.parent.parent}/kept/\n")
    (schedules / "broken").write_bytes(b"\xff\xfe\n")
    found = other_renewers([str(certificate), ""], "Somebody", [str(schedules), str(schedules / "none")])
    assert [Path(each.subject).name for each in found] == ["kept", "other", "club.pem"]
    assert "leads to" in found[-1].seen
    assert all(each.remedy for each in found)


def test_a_plain_file_that_no_schedule_names_is_nothing_to_tell(files: tuple[Path, Path], tmp_path: Path) -> None:
    plain = tmp_path / "site.pem"
    plain.write_text("x")
    assert other_renewers([str(plain)], "Somebody", [str(files[1])]) == []
