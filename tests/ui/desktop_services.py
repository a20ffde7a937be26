"""A session manager and a notice service of a desktop, mocked on a private bus: each call is told
as a line of JSON on standard output, and so is every wish to stay awake that is given back."""

import json
import os
import select
import sys
import threading

from PyQt6.QtCore import QCoreApplication, QObject, QTimer, pyqtClassInfo, pyqtSlot
from PyQt6.QtDBus import (
    QDBusAbstractAdaptor,
    QDBusConnection,
    QDBusMessage,
    QDBusUnixFileDescriptor,
)


def tell(call, **more):
    print(json.dumps({"call": call, **more}), flush=True)


@pyqtClassInfo("D-Bus Interface", "org.freedesktop.login1.Manager")
class Manager(QDBusAbstractAdaptor):
    @pyqtSlot(str, str, str, str, QDBusMessage)
    def Inhibit(self, what, who, why, mode, message):
        tell("Inhibit", what=what, who=who, why=why, mode=mode)
        mine, theirs = os.pipe()
        message.setDelayedReply(True)
        reply = message.createReply([QDBusUnixFileDescriptor(theirs)])
        QDBusConnection.sessionBus().send(reply)
        os.close(theirs)
        threading.Thread(target=given_back, args=(mine,), daemon=True).start()


def given_back(mine):
    """The other end was closed by whoever held it."""
    select.select([mine], [], [])
    tell("given back")


@pyqtClassInfo("D-Bus Interface", "org.freedesktop.Notifications")
class Notices(QDBusAbstractAdaptor):
    @pyqtSlot(str, "uint", str, str, str, "QStringList", "QVariantMap", int, result="uint")
    def Notify(self, app, replaces, icon, title, body, actions, hints, stays):
        tell("Notify", app=app, icon=icon, title=title, body=body, stays=stays)
        return 1


app, kept = QCoreApplication(sys.argv), []
bus = QDBusConnection.sessionBus()
for name, path, kind in (
    ("org.freedesktop.login1", "/org/freedesktop/login1", Manager),
    ("org.freedesktop.Notifications", "/org/freedesktop/Notifications", Notices),
):
    thing = QObject()
    kept += [thing, kind(thing)]
    assert bus.registerObject(path, thing) and bus.registerService(name), name
tell("ready")
QTimer.singleShot(60_000, app.quit)
app.exec()
