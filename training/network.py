"""The acoustic network in PyTorch, its parameters named as the service reads them."""

from __future__ import annotations

import torch
from torch import Tensor, nn
from torch.nn import functional

from fond_echo.core.recognition.features import BANDS
from fond_echo.core.recognition.network import REACHES, SPAN, STRIDE
from fond_echo.core.recognition.symbols import SYMBOLS

OUTPUTS = len(SYMBOLS) + 1


class Block(nn.Module):
    """A residual block: three frames at a distance, through one hidden layer."""

    def __init__(self, width: int, reach: tuple[int, int], dropped: float) -> None:
        super().__init__()
        self.n = nn.LayerNorm(width)
        self.a = nn.Linear(3 * width, width)
        self.b = nn.Linear(width, width)
        self.reach = reach
        self.dropped = dropped

    def forward(self, x: Tensor) -> Tensor:
        before, after = self.reach
        count = x.shape[1]
        h = functional.pad(self.n(x), (0, 0, before, after))
        h = torch.cat([h[:, :count], h[:, before : before + count], h[:, before + after :]], dim=2)
        h = self.b(functional.gelu(self.a(h), approximate="tanh"))
        return x + functional.dropout(h, self.dropped, self.training)


class Network(nn.Module):
    """Levelled features (batch, frames, 64) to log probabilities (batch, frames / 3, 40), and the
    logits of an auxiliary head over the same outputs."""

    def __init__(self, width: int, dropped: float = 0.05) -> None:
        super().__init__()
        self.inp = nn.Linear(BANDS * SPAN, width)
        self.bl = nn.ModuleList([Block(width, reach, dropped) for reach in REACHES])
        self.n = nn.LayerNorm(width)
        self.out = nn.Linear(width, OUTPUTS)
        self.ce = nn.Linear(width, OUTPUTS)

    def forward(self, features: Tensor) -> tuple[Tensor, Tensor]:
        padded = functional.pad(features, (0, 0, 2, SPAN - 3))
        x = padded.unfold(1, SPAN, STRIDE).reshape(features.shape[0], -1, BANDS * SPAN)
        x = self.inp(x)
        middle = x
        for place, block in enumerate(self.bl):
            x = block(x)
            if place == len(self.bl) - 3:
                middle = x
        return functional.log_softmax(self.out(self.n(x)), dim=-1), self.ce(middle)
