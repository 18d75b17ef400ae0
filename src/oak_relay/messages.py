"""Messages as model servers take them (the chat-completions protocol), and as conversations and records keep them."""

from typing import Literal, NotRequired

from typing_extensions import TypedDict

Role = Literal["system", "user", "assistant", "tool"]


class Address(TypedDict, total=False):
    """A picture by its address, or a file by its name and data."""

    url: str
    filename: str
    file_data: str


class Content(TypedDict):
    """A part of a message: a text, a picture or a file."""

    type: str
    text: NotRequired[str]
    image_url: NotRequired[Address]
    file: NotRequired[Address]


class Function(TypedDict):
    """What is called, with its arguments as JSON text."""

    name: str
    arguments: str


class ToolCall(TypedDict):
    """A call that a message asks for."""

    id: str
    type: str
    function: Function


class Message(TypedDict):
    """One message."""

    role: Role
    content: str | list[Content] | None
    tool_calls: NotRequired[list[ToolCall]]
    tool_call_id: NotRequired[str]


class Wanted(TypedDict):
    """A call of a tool that a model wants, its arguments as JSON text."""

    id: str
    name: str
    text: str


class Source(TypedDict, total=False):
    """Where something was found."""

    url: str
    title: str


class Offered(TypedDict):
    """A tool as a model sees it; `parameters` is the JSON Schema of its arguments."""

    name: str
    description: str
    parameters: dict[str, object]
