"""Watching the files of the open save, so that what another program writes is noticed at once."""

from __future__ import annotations

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

from faithful_ledger.desk.session import Session

__all__ = ["OpenFiles"]

QUIET = 500  # milliseconds without a write: a game writes a file in pieces
MOST = 200  # files of a folder that are watched


class OpenFiles(QObject):
    """Signal: `changed` once the files have come to rest. Whether they differ is for who hears it to find out."""

    changed = Signal()

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self._watcher = QFileSystemWatcher(self)
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(QUIET)
        self._rest.timeout.connect(self._at_rest)
        self._watcher.fileChanged.connect(lambda _: self._rest.start())
        self._watcher.directoryChanged.connect(lambda _: self._rest.start())
        session.opened.connect(self._watch)

    def _watch(self) -> None:
        """A file that is replaced by another one is no longer watched by itself, so its folder is watched as well."""
        save = self._session.save
        if save is None:
            return
        wanted = {str(file.path) for file in save.on_disk[:MOST]} | {
            str(file.path.parent) for file in save.on_disk[:MOST]
        }
        present = {*self._watcher.files(), *self._watcher.directories()}
        if gone := sorted(present - wanted):
            self._watcher.removePaths(gone)
        if new := sorted(wanted - present):
            self._watcher.addPaths(new)

    def _at_rest(self) -> None:
        self._watch()
        self.changed.emit()
