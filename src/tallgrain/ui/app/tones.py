"""Quiet tones: a touch done, your turn, stopped, fault. They can be turned off."""

import logging
import shutil
import subprocess
import wave
from pathlib import Path

import numpy as np

log = logging.getLogger(__name__)

RATE = 22_050
# Frequencies (Hz) one after another, each for so long (s), at so much of full loudness.
TONES = {
    "touch": ((880.0,), 0.03, 0.08),
    "turn": ((660.0, 880.0), 0.12, 0.2),
    "stopped": ((440.0, 330.0), 0.16, 0.25),
    "fault": ((330.0, 262.0, 330.0), 0.18, 0.3),
}
PLAYERS = ("pw-play", "paplay", "aplay")


class Tones:
    """Plays short tones through the sound system's own player, where there is one."""

    def __init__(self, folder: Path) -> None:
        self.on = True
        self._folder = folder
        self._player = next((p for p in map(shutil.which, PLAYERS) if p), None)
        self._running: subprocess.Popen[bytes] | None = None

    def play(self, name: str) -> bool:
        """Play a tone, unless tones are off, one is sounding, or there is no player."""
        if not self.on or self._player is None:
            return False
        if self._running is not None and self._running.poll() is None:
            return False
        path = self._folder / f"{name}.wav"
        if not path.exists():
            write_tone(path, name)
        quiet = subprocess.DEVNULL
        self._running = subprocess.Popen([self._player, str(path)], stdout=quiet, stderr=quiet)
        return True


def write_tone(path: Path, name: str) -> None:
    """Write one tone as a WAV file."""
    pitches, seconds, loudness = TONES[name]
    t = np.arange(int(RATE * seconds)) / RATE
    # Raised and lowered softly: a hard edge clicks.
    envelope = np.minimum(1.0, np.minimum(t, t[::-1]) / 0.008)
    sound = np.concatenate([np.sin(2 * np.pi * f * t) * envelope for f in pitches]) * loudness
    path.parent.mkdir(parents=True, exist_ok=True)
    with wave.open(str(path), "wb") as file:
        file.setnchannels(1)
        file.setsampwidth(2)
        file.setframerate(RATE)
        file.writeframes((sound * 32767).astype("<i2").tobytes())
