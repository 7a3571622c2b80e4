"""The ways in which a gap between two attacks is made longer or shorter."""

from __future__ import annotations

from enum import StrEnum

from supple_snare.sound.material import Material


class Method(StrEnum):
    """How the strokes of a group, or of a section of it, come to their new places.

    `AUTO` stretches what rings from one note into the next and cuts drums.
    """

    CUT = "cut"
    STRETCH = "stretch"
    AUTO = "auto"


class Way(StrEnum):
    """What happens to the sound between two attacks that move by different amounts.

    `CUT` joins it at one seam; the others stretch it: `RINGING` by a phase vocoder, for chords and all that rings on;
    `NOTES` likewise, but less of it, for voices and notes that change soon; `STROKES` by repeating or leaving out what
    is alike.
    """

    CUT = "cut"
    RINGING = "ringing"
    NOTES = "notes"
    STROKES = "strokes"


_WAYS = {
    Material.PLUCKED: Way.RINGING,
    Material.KEYS: Way.RINGING,
    Material.BLOWN: Way.RINGING,
    Material.VOICE: Way.NOTES,
}


def way_of(method: Method, material: Material | None) -> Way:
    """How a method fills the gaps of a material; of one that is not known, as of drums."""
    if method is Method.CUT:
        return Way.CUT
    return _WAYS.get(material, Way.CUT if method is Method.AUTO else Way.STROKES) if material else Way.CUT
