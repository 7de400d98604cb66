"""What is known of installs, kept beside the parts of a log."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from mossy_trail.core.model.installs import Installs
from mossy_trail.store.folder import Folder

_NAME = "installs.arrow"


def write_installs(folder: Folder, installs: Installs) -> None:
    own = installs.whole()
    columns = {
        "install": pa.array(own.names, pa.large_string()),
        "account": pa.array(own.accounts, pa.large_string()),
        "last": pa.array(own.last, pa.int64()),
        "several": pa.array(own.several, pa.bool_()),
    }
    folder.write_table(_NAME, pa.table(columns))


def read_installs(folder: Folder) -> Installs:
    """Raises `OSError` or `ValueError` where they are not there, or not whole."""
    columns = folder.read_table(_NAME).to_pydict()
    last, several = np.array(columns["last"], "int64"), np.array(columns["several"], bool)
    return Installs(columns["install"], columns["account"], last, several)
