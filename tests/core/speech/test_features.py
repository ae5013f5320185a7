"""What the network sees and gives: the same for a whole sound as for one fed in pieces."""

import unittest

import numpy as np

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.errors import BrokenSound
from fond_echo.core.recognition.features import (
    AHEAD,
    BANDS,
    SCALE,
    Normalizer,
    energies,
    log_mel,
    normalized,
)
from fond_echo.core.recognition.layers import (
    CONVOLUTIONS,
    Attention,
    LayerPlan,
    layer_normalized,
    packed_plan,
)
from fond_echo.core.recognition.network import PLAN, SPAN, AcousticNetwork, NetworkStream
from tests.sounds import noise, silence_of, speech

SENTENCE = "When is the next boat to Brannick?"


ATTENTION = (LayerPlan(1, 1), LayerPlan(12, 2, 4), LayerPlan(2, 1), LayerPlan(70, 0, 2))


def random_network(width=24, seed=3, plan=CONVOLUTIONS):
    rng = np.random.default_rng(seed)

    def matrix(out, into):
        return rng.normal(0, into**-0.5, (out, into)).astype(np.float32)

    weights = {"inp.weight": matrix(width, BANDS * SPAN), "inp.bias": np.zeros(width)}
    weights[PLAN] = packed_plan(plan)
    for block, layer in enumerate(plan):
        name = f"bl.{block}."
        weights |= {name + "n.weight": np.ones(width), name + "n.bias": np.zeros(width)}
        if layer.heads:
            window = layer.before + 1 + layer.after
            weights |= {
                name + "qkv.weight": matrix(3 * width, width), name + "qkv.bias": np.zeros(3 * width),
                name + "o.weight": matrix(width, width), name + "o.bias": np.zeros(width),
                name + "bias": rng.normal(0, 1, (layer.heads, window)),
            }  # fmt: skip
        else:
            weights |= {
                name + "a.weight": matrix(width, 3 * width), name + "a.bias": np.zeros(width),
                name + "b.weight": matrix(width, width), name + "b.bias": np.zeros(width),
            }  # fmt: skip
    weights |= {"n.weight": np.ones(width), "n.bias": np.zeros(width)}
    weights |= {"out.weight": matrix(40, width), "out.bias": np.zeros(40)}
    return AcousticNetwork(weights), weights


class Levels(unittest.TestCase):
    def test_a_frame_every_ten_milliseconds(self):
        logs = log_mel(speech(SENTENCE))
        self.assertEqual(logs.shape[1], BANDS)
        self.assertAlmostEqual(len(logs) / 100, speech(SENTENCE).seconds, delta=0.03)
        self.assertEqual(log_mel(Clip(np.zeros(3, np.float32), 16_000)).shape, (1, BANDS))
        with self.assertRaisesRegex(BrokenSound, "16000 Hz, not 8000"):
            log_mel(Clip(np.zeros(3, np.float32), 8_000))

    def test_loud_and_soft_are_the_same(self):
        clip = speech(SENTENCE)
        soft = Clip(clip.samples * np.float32(0.2), clip.rate)
        far = np.abs(normalized(log_mel(clip)) - normalized(log_mel(soft)))
        self.assertLess(far.mean(), 0.03)

    def test_the_colour_of_a_line_fades_out_of_it(self):
        logs = np.tile(np.random.default_rng(1).normal(-4, 2, (1_500, 1)), (1, BANDS))
        logs = (logs + np.random.default_rng(2).normal(0, 0.5, logs.shape)).astype(np.float32)
        tilted = logs + np.linspace(-1.5, 1.5, BANDS, dtype=np.float32)
        plain, other = normalized(logs), normalized(tilted)
        self.assertLess(np.abs((plain - other)[-100:]).mean() * SCALE, 0.25)
        self.assertGreater(np.abs(logs - tilted)[-100:].mean(), 0.7)

    def test_pieces_give_the_same_as_the_whole(self):
        logs = log_mel(speech(SENTENCE))
        whole = normalized(logs)
        for size in (1, 2, 7, 50):
            levelling, found = Normalizer(float(logs.max())), []
            for start in range(0, len(logs), size):
                found.append(levelling.feed(logs[start : start + size]))
                ready = sum(map(len, found))
                self.assertEqual(ready, max(0, min(start + size, len(logs)) - AHEAD))
            found.append(levelling.feed(logs[:0], last=True))
            np.testing.assert_array_equal(np.concatenate(found), whole)

    def test_silence_and_noise_are_numbers(self):
        for clip in (silence_of(1.0), noise(1.0), Clip(np.ones(16_000, np.float32), 16_000)):
            self.assertTrue(np.isfinite(normalized(log_mel(clip))).all())

    def test_energies_need_a_window(self):
        self.assertEqual(energies(np.ones(400, np.float32)).shape, (1, BANDS))


class TheNetwork(unittest.TestCase):
    def test_rows_are_probabilities(self):
        network, _ = random_network()
        for frames in (1, 2, 3, 10, 61):
            logs = network.log_probabilities(np.ones((frames, BANDS), np.float32))
            self.assertEqual(logs.shape, (-(-frames // 3), 40))
            np.testing.assert_allclose(np.exp(logs).sum(axis=1), 1, rtol=1e-4)

    def test_pieces_give_the_same_as_the_whole(self):
        features = np.random.default_rng(4).normal(0, 1, (500, BANDS)).astype(np.float32)
        for plan in (CONVOLUTIONS, ATTENTION):
            network, _ = random_network(plan=plan)
            whole = network.log_probabilities(features)
            for size in (1, 2, 5, 64, 400):
                stream = NetworkStream(network)
                found = [stream.feed(features[k : k + size]) for k in range(0, 500, size)]
                found.append(stream.feed(features[:0], last=True))
                pieces = np.concatenate([each for each in found if len(each)])
                np.testing.assert_allclose(pieces, whole, atol=1e-4)

    def test_attention_is_what_its_definition_says(self):
        """Against the sums written out, frame by frame and head by head."""
        rng = np.random.default_rng(6)
        plan, width, count = LayerPlan(3, 1, 2), 8, 11
        weights = {
            "n.weight": np.ones(width), "n.bias": np.zeros(width),
            "qkv.weight": rng.normal(0, 1, (width, 3 * width)), "qkv.bias": rng.normal(0, 1, 24),
            "o.weight": np.eye(width), "o.bias": np.zeros(width), "bias": rng.normal(0, 1, (2, 5)),
        }  # fmt: skip
        weights = {name: value.astype(np.float32) for name, value in weights.items()}
        x = rng.normal(0, 1, (count, width)).astype(np.float32)
        found = Attention(plan, weights, "").feed(x, last=True)
        normal = layer_normalized(x.copy(), weights["n.weight"], weights["n.bias"])
        q, k, v = np.split(normal @ weights["qkv.weight"] + weights["qkv.bias"], 3, axis=1)
        for t in range(count):
            seen = [j for j in range(t - 3, t + 2) if 0 <= j < count]
            for head in range(2):
                part = slice(4 * head, 4 * head + 4)
                scores = [
                    q[t, part] @ k[j, part] / 2 + weights["bias"][head, j - t + 3] for j in seen
                ]
                shares = np.exp(scores) / np.exp(scores).sum()
                wanted = x[t, part] + shares @ v[seen, part]
                np.testing.assert_allclose(found[t, part], wanted, atol=1e-4)

    def test_it_looks_no_further_ahead_than_it_says(self):
        for plan in (CONVOLUTIONS, ATTENTION):
            self.look_ahead(random_network(plan=plan)[0])

    def look_ahead(self, network):
        features = np.random.default_rng(4).normal(0, 1, (150, BANDS)).astype(np.float32)
        changed = features.copy()
        changed[90:] += 1.0
        far = np.abs(network.log_probabilities(features) - network.log_probabilities(changed))
        first = int(np.flatnonzero(far.max(axis=1) > 1e-6)[0])
        self.assertGreaterEqual(first, (90 - SPAN + 2) // 3 - network.look_ahead)

    def test_whole_numbers_with_scales_are_the_same_within_rounding(self):
        network, weights = random_network()
        packed = {}
        for name, value in weights.items():
            packed[name] = value
            if value.ndim == 2 and name.endswith(".weight"):
                scale = np.abs(value).max(axis=1) / 127
                packed[name] = np.round(value / scale[:, None]).astype(np.int8)
                packed[name + ".scale"] = scale
        features = np.random.default_rng(4).normal(0, 1, (90, BANDS)).astype(np.float32)
        exact = network.log_probabilities(features)
        rounded = AcousticNetwork(packed).log_probabilities(features)
        self.assertLess(np.abs(np.exp(exact) - np.exp(rounded)).max(), 0.02)
