"""An outcome as bytes and back, bit for bit: a NumPy archive of its columns beside a JSON text.

Nothing in it is executed when it is read: arrays hold numbers only, and every text is checked.
"""

from __future__ import annotations

import dataclasses
import io
import json
import zipfile
from pathlib import Path
from typing import Any

import numpy as np

from rilievo.core.batch.outcome import Outcome
from rilievo.core.errors import StudyError
from rilievo.core.files.sample_ref import SampleRef
from rilievo.core.method.method import Method
from rilievo.core.method.signal_flags import marks_of
from rilievo.core.pipeline.checks import BatchProperties, Check
from rilievo.core.pipeline.threshold_stability import Change
from rilievo.core.regions import RegionAnnotation
from rilievo.core.table.compartments import pair_columns
from rilievo.core.table.table import RegionTable

_TEXT, _PICTURES = "outcome", "pictures"


def encode_outcome(outcome: Outcome) -> bytes:
    """Return an outcome as bytes; its item is left to whoever asks for it again."""
    arrays: dict[str, Any] = {}
    text: dict[str, Any] = {
        "failure": outcome.failure,
        "checks": [dataclasses.astuple(check) for check in outcome.checks],
        "picks": outcome.picks,
        "traits": None if outcome.properties is None else vars(outcome.properties),
        "changes": {
            name: [dataclasses.astuple(change) for change in changes]
            for name, changes in outcome.changes.items()
        },
        "checksum": outcome.checksum,
        "attributes": dict(outcome.attributes),
    }
    table = outcome.table
    if table is not None:
        text["table"] = {
            "sample": table.sample,
            "file": table.file,
            "files": dict(table.files),
            "classes": table.classes,
            "unit": table.unit,
            "thresholds": table.thresholds,
            "image_pixels": table.image_pixels,
            "image_width": table.image_width,
            "known": {
                str(k): {n: v for n, v in vars(facts).items() if v and n != "drawn"}
                for k, facts in table.known.items()
            },
            "units": dict(table.units),
            "channels": table.channels,
            "keys": table.quantities,
        }
        arrays["ids"] = table.ids
        for k, channel in enumerate(table.channels):
            columns = [table.column(channel, key) for key in table.quantities]
            shape = (len(columns), table.ids.size)
            arrays[f"columns {k}"] = np.array(columns, np.float64).reshape(shape)
            arrays[f"flags {k}"] = table.flags.get(channel, np.zeros(table.ids.size, np.uint8))
    if outcome.pictures:
        arrays[_PICTURES] = np.frombuffer(outcome.pictures, np.uint8)
    arrays[_TEXT] = np.frombuffer(json.dumps(text, ensure_ascii=False).encode(), np.uint8)
    buffer = io.BytesIO()
    np.savez(buffer, allow_pickle=False, **arrays)
    return buffer.getvalue()


def decode_outcome(content: bytes, item: SampleRef, method: Method) -> Outcome:
    """Return the outcome of an item from its bytes. Raises StudyError for damaged ones.

    method : with which it was measured; it tells the marks and units of pairs.
    """
    try:
        with np.load(io.BytesIO(content), allow_pickle=False) as archive:
            text = json.loads(archive[_TEXT].tobytes())
            properties = text["traits"]
            if properties is not None:
                properties = BatchProperties(**{**properties, "size": tuple(properties["size"])})
            return Outcome(
                item=item,
                table=_table(text["table"], archive, item, method) if "table" in text else None,
                checks=tuple(Check(*fields) for fields in text["checks"]),
                failure=text["failure"],
                picks=tuple(text["picks"]),
                properties=properties,
                changes={
                    name: tuple(Change(*fields) for fields in changes)
                    for name, changes in text["changes"].items()
                },
                checksum=text["checksum"],
                attributes={**text["attributes"], **item.all_attributes},
                pictures=archive[_PICTURES].tobytes() if _PICTURES in archive else b"",
            )
    except (ValueError, KeyError, TypeError, OSError, EOFError, zipfile.BadZipFile) as exc:
        raise StudyError(
            f"The kept result of “{item.name}” is damaged ({exc}); remove the file of results and "
            "measure again."
        ) from exc


def _table(text: dict[str, Any], archive: Any, item: SampleRef, method: Method) -> RegionTable:
    channels = [str(name) for name in text["channels"]]
    return RegionTable(
        sample=text["sample"],
        file=Path(text["file"]).name,
        group=item.group,
        classes=tuple(text["classes"]),
        ids=archive["ids"],
        columns={
            name: dict(zip(text["keys"], archive[f"columns {k}"], strict=True))
            for k, name in enumerate(channels)
        },
        unit=text["unit"],
        thresholds=tuple(text["thresholds"]),
        image_pixels=text["image_pixels"],
        image_width=text["image_width"],
        marks={name: marks_of(method, text["sample"], name) for name in channels},
        known={int(k): RegionAnnotation(**facts) for k, facts in text["known"].items()},
        flags={name: archive[f"flags {k}"] for k, name in enumerate(channels)},
        units=text["units"],
        files=text["files"],
        derived=pair_columns(method.measure.pairs),
    )
