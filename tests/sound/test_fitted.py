"""Fitted models: files that say what they are."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from supple_snare.sound import guess, lines, own_drum, signs
from supple_snare.sound.fitted import FOLDER, Fitted, FittedError, Network, fitted

MODELS = {
    "notes": guess.OF_NOTES,
    "voice": guess.FEATURES,
    "attacks": signs.FEATURES,
    "own_drum": own_drum.FEATURES,
    "lines": lines.FEATURES,
}


def test_every_model_is_of_features_that_the_program_tells():
    """And no file lies about that is not used."""
    assert {path.stem for path in FOLDER.glob("*.json")} == set(MODELS)
    for name, features in MODELS.items():
        model = fitted(name, features)
        assert model.fitted_to
        assert np.isfinite(model.log_odds({feature: np.zeros(3) for feature in features})).all()


@pytest.mark.parametrize("change", [{"version": 99}, {"features": ["other", "names"]}])
def test_a_model_that_does_not_go_with_the_program_is_refused(tmp_path, monkeypatch, change):
    """Whether of another form or fitted to something else: the message names the file."""
    model = Fitted(1, ["one", "two"], [0.0, 0.0], [1.0, 1.0], [Network([[[1.0], [2.0]]], [[0.5]])])
    (tmp_path / "some.json").write_bytes(msgspec.json.encode(msgspec.structs.replace(model, **change)))
    monkeypatch.setattr("supple_snare.sound.fitted.FOLDER", tmp_path)
    with pytest.raises(FittedError, match=r"some\.json"):
        fitted.__wrapped__("some", ("one", "two"))


def test_inputs_go_by_name_and_are_limited():
    """Whatever their order; far out they tell no more than four spreads out."""
    model = Fitted(1, ["one", "two"], [1.0, 0.0], [2.0, 1.0], [Network([[[1.0], [2.0]]], [[0.5]])])
    assert model.log_odds({"two": np.array([1.0, 90.0]), "one": np.array([3.0, 1.0])}) == pytest.approx([3.5, 8.5])
