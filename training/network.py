"""The acoustic network in PyTorch, its parameters named as the service reads them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import torch
from torch import Tensor, nn
from torch.nn import functional

from fond_echo.core.recognition.features import BANDS
from fond_echo.core.recognition.layers import CONVOLUTIONS, LayerPlan
from fond_echo.core.recognition.network import SPAN, STRIDE
from fond_echo.core.recognition.symbols import SYMBOLS

OUTPUTS = len(SYMBOLS) + 1

PLANS: dict[str, tuple[LayerPlan, ...]] = {
    "first": CONVOLUTIONS,
    "deeper": tuple(
        LayerPlan(*each)
        for each in (
            (1, 1), (2, 1), (1, 1), (4, 2), (2, 1), (1, 1), (8, 1), (2, 1), (2, 1), (4, 2), (8, 1),
            (2, 1),
        )
    ),
    "convolutions": tuple(
        LayerPlan(*each)
        for each in (
            (1, 1), (2, 1), (4, 1), (1, 1), (2, 1), (4, 1), (8, 1), (1, 1), (2, 1), (4, 1), (8, 0)
        )
    ),
    "attention": tuple(
        LayerPlan(*each)
        for each in (
            (1, 1), (2, 1), (32, 1, 4), (1, 1), (32, 1, 4), (2, 1), (32, 1, 4), (1, 1), (32, 1, 4),
            (2, 1), (1, 0),
        )
    ),
}  # fmt: skip
"""Layers by name: back, ahead, heads of attention; "deeper" is "first" with four more among
them."""


def places_within(few: Sequence[LayerPlan], many: Sequence[LayerPlan]) -> list[int]:
    """At which place of many layers each of a few is.

    Raises:
        ValueError: they are not among them in their order.
    """
    found: list[int] = []
    for each in few:
        rest = many[found[-1] + 1 :] if found else many
        if each not in rest:
            raise ValueError(f"the layers {tuple(few)} do not lie within {tuple(many)}")
        found.append(len(many) - len(rest) + rest.index(each))
    return found


class Convolution(nn.Module):
    """A residual layer: three frames at a distance, through one hidden layer."""

    def __init__(self, width: int, plan: LayerPlan, dropout: float) -> None:
        super().__init__()
        self.n = nn.LayerNorm(width)
        self.a = nn.Linear(3 * width, width)
        self.b = nn.Linear(width, width)
        self.plan = plan
        self.dropout = dropout

    def silence(self) -> None:
        """Add nothing to what comes in, until it is trained."""
        nn.init.zeros_(self.b.weight)
        nn.init.zeros_(self.b.bias)

    def forward(self, x: Tensor, lengths: Tensor) -> Tensor:
        before, after = self.plan.before, self.plan.after
        count = x.shape[1]
        h = functional.pad(self.n(x), (0, 0, before, after))
        h = torch.cat([h[:, :count], h[:, before : before + count], h[:, before + after :]], dim=2)
        h = self.b(functional.gelu(self.a(h), approximate="tanh"))
        return x + functional.dropout(h, self.dropout, self.training)


class Attention(nn.Module):
    """A residual layer: every frame of a window, by several heads."""

    def __init__(self, width: int, plan: LayerPlan, dropout: float) -> None:
        super().__init__()
        self.n = nn.LayerNorm(width)
        self.qkv = nn.Linear(width, 3 * width)
        self.o = nn.Linear(width, width)
        self.bias = nn.Parameter(torch.zeros(plan.heads, plan.before + 1 + plan.after))
        self.plan = plan
        self.dropout = dropout

    def silence(self) -> None:
        """Add nothing to what comes in, until it is trained."""
        nn.init.zeros_(self.o.weight)
        nn.init.zeros_(self.o.bias)

    def forward(self, x: Tensor, lengths: Tensor) -> Tensor:
        plan, (batch, count, width) = self.plan, x.shape
        q, k, v = (
            each.view(batch, count, plan.heads, -1).transpose(1, 2)
            for each in self.qkv(self.n(x)).chunk(3, dim=2)
        )
        # A row for each frame: its window of the biases, and nothing else.
        outside = torch.full((plan.heads, count), -1e9)
        laid = torch.cat([outside, self.bias, outside], dim=1).unfold(1, count, 1)
        mask = laid[:, plan.before + 1 : plan.before + 1 + count].flip(1)
        place = torch.arange(count)
        ended = (place[None] >= lengths[:, None])[:, None, None]
        mask = mask[None].masked_fill(ended, -1e9)
        h = functional.scaled_dot_product_attention(q, k, v, attn_mask=mask)
        h = self.o(h.transpose(1, 2).reshape(batch, count, width))
        return x + functional.dropout(h, self.dropout, self.training)


class Network(nn.Module):
    """Normalized features (batch, frames, 64) to log probabilities (batch, frames / 3, 40), and the
    logits of an auxiliary head over the same outputs.

    Args:
        heads: output layers of other languages, and how many outputs each has, the blank too.
    """

    def __init__(
        self, width: int, plan: Sequence[LayerPlan] = CONVOLUTIONS, dropout: float = 0.05,
        heads: Mapping[str, int] | None = None,
    ) -> None:  # fmt: skip
        super().__init__()
        self.plan = tuple(plan)
        self.inp = nn.Linear(BANDS * SPAN, width)
        self.bl = nn.ModuleList(
            [(Attention if each.heads else Convolution)(width, each, dropout) for each in plan]
        )
        self.n = nn.LayerNorm(width)
        self.out = nn.Linear(width, OUTPUTS)
        self.heads = nn.ModuleDict(
            {each: nn.Linear(width, count) for each, count in (heads or {}).items()}
        )
        self.ce = nn.Linear(width, OUTPUTS)

    def forward(
        self, features: Tensor, lengths: Tensor | None = None, head: str = ""
    ) -> tuple[Tensor, Tensor]:
        """`lengths`: the network's frames of each example; all of them where none are given.
        `head`: another language's output layer."""
        padded = functional.pad(features, (0, 0, 2, SPAN - 3))
        x = padded.unfold(1, SPAN, STRIDE).reshape(features.shape[0], -1, BANDS * SPAN)
        x = self.inp(x)
        if lengths is None:
            lengths = torch.full((len(x),), x.shape[1])
        middle = x
        for place, block in enumerate(self.bl):
            x = block(x, lengths)
            if place == len(self.bl) - 3:
                middle = x
        out = self.heads[head] if head else self.out
        return functional.log_softmax(out(self.n(x)), dim=-1), self.ce(middle)
