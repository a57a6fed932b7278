"""Makes claims_network.onnx, the network that the tests explain. Needs PyTorch, which nothing else here does.

Run: python tests/core/networks/make_network.py
"""

from __future__ import annotations

from pathlib import Path

import torch
from torch import nn


class Network(nn.Module):
    """Four numbers to the probabilities of two classes."""

    def __init__(self):
        super().__init__()
        self.layers = nn.Sequential(nn.Linear(4, 8), nn.Tanh(), nn.Linear(8, 2), nn.Softmax(dim=1))

    def forward(self, x):
        return self.layers(x)


def main() -> None:
    torch.manual_seed(4)
    network = Network()
    rows = torch.randn(2_000, 4)
    wanted = (rows[:, 0] + rows[:, 1] * rows[:, 2] > 0).long()
    steps = torch.optim.Adam(network.parameters(), lr=0.02)
    for _ in range(300):
        steps.zero_grad()
        loss = nn.functional.nll_loss(torch.log(network(rows)), wanted)
        loss.backward()
        steps.step()
    network.eval()
    torch.onnx.export(
        network,
        (rows[:2],),
        str(Path(__file__).with_name("claims_network.onnx")),
        input_names=["x"],
        output_names=["probabilities"],
        dynamic_axes={"x": {0: "rows"}, "probabilities": {0: "rows"}},
        dynamo=False,
    )


if __name__ == "__main__":
    main()
