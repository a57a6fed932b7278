"""Messages of the queue are text."""

import json

import pytest
from huey.registry import Message

from zerotilt.tasks.queue import JsonSerializer


@pytest.mark.parametrize("data", [Message(*([None] * len(Message._fields))), None, [1, 2], {"a": "b"}, "text"])
def test_messages_come_back_as_they_were_sent(data):
    serializer = JsonSerializer()
    written = serializer.serialize(data)
    json.loads(written)
    assert serializer.deserialize(written) == data


def test_what_is_not_json_is_never_executed():
    with pytest.raises(ValueError, match="Expecting value"):
        JsonSerializer().deserialize(b"cos\nsystem\n(S'true'\ntR.")
