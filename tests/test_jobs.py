"""Jobs of the replay process: what may be asked for, and what travels. Needs neither driver nor display."""

from __future__ import annotations

import logging
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays

from wendascope.backends.slots import Slot, Slots
from wendascope.errors import FileError, InternalError, ReplayError, TrialError, error_named
from wendascope.frame.remedy import Remedy
from wendascope.logs import start_logging
from wendascope.replay import wire
from wendascope.replay.jobs import RemoteJob, job_named, remote
from wendascope.replay.wire import Reply, Request, decode_reply, decode_request, encode

SESSION: Any = object()
JOB: Any = object()


class Measured(msgspec.Struct):
    ms: npt.NDArray[np.float64]
    mask: npt.NDArray[np.bool_] | None
    remedies: list[Remedy]


@remote
def double(session, job, values: npt.NDArray[np.float64], remedies: list[Remedy], times: int = 2) -> Measured:
    assert session is SESSION and job is JOB
    return Measured(values * times, values > 0, remedies)


@remote
def broken(session, job) -> int:
    return object()  # type: ignore[return-value]


def there_and_back(asked):
    """As the two processes do it."""
    request = decode_request(encode(Request(asked.job.name, asked.arguments, 1)))
    reply = decode_reply(encode(Reply(True, result=asked.job.run(SESSION, JOB, request.arguments))))
    return asked.job.result(reply.result)


@given(arrays.arrays(np.float64, st.integers(0, 20), elements=st.floats(-1e6, 1e6)), st.integers(-3, 3))
def test_arguments_and_results_keep_their_types(values: npt.NDArray[np.float64], times: int) -> None:
    remedy = Remedy("drop-steps", [1, 2], loops={3: 4})
    found = there_and_back(double.asked(values, [remedy], times))
    assert isinstance(found, Measured) and found.remedies == [remedy]
    assert found.ms.dtype == np.float64 and np.array_equal(found.ms, values * times)
    assert found.mask is not None and found.mask.dtype == bool and found.mask.shape == values.shape


def test_defaults_are_those_of_the_function() -> None:
    assert there_and_back(double.asked(np.ones(2), [])).ms.tolist() == [2.0, 2.0]
    assert double(SESSION, JOB, np.ones(1), [], times=5).ms.tolist() == [5.0]


@pytest.mark.parametrize("wrong", [{}, {"values": np.ones(1), "remedies": [], "more": 1}])
def test_wrong_arguments_are_found_before_they_are_sent(wrong: dict[str, object]) -> None:
    with pytest.raises(TypeError):
        double.asked(**wrong)  # type: ignore[arg-type]


@given(st.binary(max_size=60))
def test_arguments_from_outside_are_checked(data: bytes) -> None:
    with pytest.raises(ReplayError, match="wrong arguments"):
        double.run(SESSION, JOB, data)


@pytest.mark.parametrize(
    "value",
    [
        {"values": [1.0], "remedies": []},
        {"values": "text", "remedies": []},
        {"values": np.ones(1), "remedies": [{"kind": 3, "steps": []}]},
        {"values": np.ones(1), "remedies": [], "session": 1},
        {"remedies": []},
    ],
)
def test_arguments_of_other_types_are_refused(value: object) -> None:
    with pytest.raises(ReplayError, match="wrong arguments"):
        double.run(SESSION, JOB, wire.pack(value))


def test_a_result_that_cannot_travel_is_an_error() -> None:
    with pytest.raises(TypeError, match="cannot send object"):
        broken.run(SESSION, JOB, broken.asked().arguments)


@pytest.mark.parametrize(
    "name",
    [
        "",
        "measure",
        "measure.pictures",
        "measure.pictures.compare_pictures",
        "measure.no_such.thing",
        "frame.file.load",
    ],
)
def test_nothing_else_of_the_package_can_be_asked_for(name: str) -> None:
    with pytest.raises(ReplayError, match="there is no job called"):
        job_named(name)


@pytest.mark.parametrize(
    "name", ["os.system", "measure.pictures.__builtins__", "measure.../x.y", "trials..runs", "measure. os.x"]
)
def test_names_lead_nowhere_else(name: str) -> None:
    with pytest.raises(ReplayError):
        job_named(name)


def test_jobs_are_found_by_their_names() -> None:
    from wendascope.measure.pictures import verify
    from wendascope.trials.proofs.runs import try_remedies

    for job in (verify, try_remedies):
        assert isinstance(job, RemoteJob) and job_named(job.name) is job
    assert verify.name == "measure.pictures.verify" and "reference picture" in str(verify.__doc__)


def test_every_job_has_types_that_travel() -> None:
    """All of them can be asked for: their arguments and results have annotations that messages are made by."""
    import inspect

    from wendascope import measure, trials
    from wendascope.discovery import import_all
    from wendascope.replay import jobs

    for package in (measure, trials):
        import_all(package.__name__)
    found = [job for name, job in jobs._known.items() if name.startswith(("measure.", "trials."))]
    assert len(found) >= 15
    for job in found:
        assert job._hints["return"] is not inspect.Signature.empty
        assert set(job._arguments.__struct_fields__) == set(job._signature.parameters), job.name


def test_slots_are_apart_and_made_once() -> None:
    slots, made = Slots(), []
    first: Slot[int] = Slot("same name")
    second: Slot[str] = Slot("same name")

    def make() -> int:
        made.append(1)
        return 7

    assert slots.get(first, make) == 7 and slots.get(first, make) == 7 and len(made) == 1
    assert slots.get(second, lambda: "text") == "text" and slots.put(second, "other") == "other"
    assert slots.get(second, lambda: "new") == "other" and "same name" in repr(first)


def test_mistakes_of_ours_are_one_line_with_their_cause() -> None:
    error = InternalError.of(KeyError("what\nis missing"))
    assert "\n" not in str(error) and "KeyError" in str(error) and isinstance(error.__cause__, KeyError)


def test_the_log_is_a_file_of_ones_own(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    root = logging.getLogger("wendascope")
    kept, root.handlers = root.handlers, []
    try:
        start_logging("info")
        logging.getLogger("wendascope.test").info("only on the screen")
        try:
            raise ValueError("to be found in the file")
        except ValueError:
            logging.getLogger("wendascope.test").exception("it failed")
        logging.getLogger("wendascope.test").error("pass \x1b[31m%s", "rain\nERROR forged")
        text = (tmp_path / "wendascope" / "log").read_text()
        assert "pass \\x1b[31mrain\\nERROR forged\n" in text
        assert "it failed" in text and "Traceback" in text and "to be found" in text and "only on" not in text
        assert (tmp_path / "wendascope" / "log").stat().st_mode & 0o077 == 0
        assert "only on the screen" in capsys.readouterr().err
    finally:
        for handler in root.handlers:
            handler.close()
        root.handlers = kept


def test_a_log_that_cannot_be_written_stops_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "wendascope").write_text("a file in the way")
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    root = logging.getLogger("wendascope")
    kept, root.handlers = root.handlers, []
    try:
        start_logging()
        logging.getLogger("wendascope.test").error("nowhere to go")
    finally:
        root.handlers = kept


def test_a_replay_process_names_errors_of_the_tree_and_nothing_else() -> None:
    assert error_named("TrialError") is TrialError and error_named("FileError") is FileError
    for said in ("annotations", "__builtins__", "SystemExit", "", "object"):
        assert error_named(said) is ReplayError
