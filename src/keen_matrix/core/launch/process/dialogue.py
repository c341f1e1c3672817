"""Prompts and their replies, and texts that end a program: what is looked for in what it prints.

No input or output here: `feed` takes what came and says what is to be done, so that it can be tried
with a prompt split at every place.
"""

from __future__ import annotations

from collections.abc import Sequence

from keen_matrix.core.structs import Struct


class Answering(Struct, frozen=True, kw_only=True):
    """A prompt to wait for and the reply it gets, as bytes; `within` is how many seconds it may
    take."""

    prompt: bytes
    reply: bytes
    within: float


class Heard(Struct):
    """What a piece of output comes to: the replies to give, in order, and whether it ends the
    program."""

    replies: list[bytes]
    stops: bool = False


class Dialogue:
    """The prompts of a launch, one after another, and the texts that end it.

    A prompt is looked for after the one before it, on either stream, and its patience begins when
    the one before it was answered. A text may come in pieces: of each stream as much is remembered
    as the longest text that is looked for."""

    def __init__(
        self, answers: Sequence[Answering], stop_texts: Sequence[tuple[str, bytes]], started: float
    ) -> None:
        self._answers = list(answers)
        self._stop_texts = tuple(stop_texts)
        self._tails: dict[str, bytes] = {}
        self._since = started
        #: Prompts that came, with the replies given.
        self.conversation: list[tuple[bytes, bytes]] = []

    @property
    def waited_for(self) -> Answering | None:
        """The prompt that must come next; None when all have been answered."""
        return self._answers[0] if self._answers else None

    @property
    def overdue_at(self) -> float | None:
        """The moment at which the prompt that is waited for is overdue."""
        return self._since + self._answers[0].within if self._answers else None

    def feed(self, stream: str, chunk: bytes, now: float) -> Heard:
        """Take a piece of output that came on a stream at a moment."""
        seen = self._tails.get(stream, b"") + chunk
        heard = Heard([])
        while self._answers and (at := seen.find(self._answers[0].prompt)) >= 0:
            answer = self._answers.pop(0)
            seen = seen[at + len(answer.prompt) :]
            self.conversation.append((answer.prompt, answer.reply))
            heard.replies.append(answer.reply)
            self._since = now
        heard.stops = any(where == stream and text in seen for where, text in self._stop_texts)
        texts = [each.prompt for each in self._answers] + [text for _, text in self._stop_texts]
        longest = max(map(len, texts), default=1)
        self._tails[stream] = seen[-longest:]
        return heard
