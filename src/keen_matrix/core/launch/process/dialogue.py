"""Prompts and their replies, and texts that end a program: what is looked for in what it prints.

No input or output here: `feed` takes what came and says what is to be done, so that it can be tried
with a prompt split at every place.
"""

from __future__ import annotations

from collections.abc import Sequence

from keen_matrix.core.structs import Struct

#: Bytes in which a pattern is looked for: what came last, after the prompt before it.
MOST_SEARCHED = 1 << 14
#: Seconds that one search of a pattern may take; what takes longer is not found.
SEARCH_SECONDS = 0.2


class Answering(Struct, frozen=True, kw_only=True):
    """A prompt to wait for and the reply it gets, as bytes; `within` is how many seconds it may
    take."""

    prompt: bytes
    reply: bytes = b""
    within: float
    #: Whether the prompt is a regular expression.
    is_pattern: bool = False

    def find(self, seen: bytes) -> tuple[int, int] | None:
        """Return where the prompt begins and ends in what was printed; None where it is not."""
        if not self.is_pattern:
            at = seen.find(self.prompt)
            return None if at < 0 else (at, at + len(self.prompt))
        import regex

        try:
            # As a text: a class or a dot is a character, and not one of its bytes.
            text = seen.decode("utf-8", "surrogateescape")
            match = regex.search(self.prompt.decode("utf-8", "surrogateescape"), text, timeout=SEARCH_SECONDS)
        except TimeoutError:
            return None
        if match is None:
            return None
        before, until = (text[: match.start()], text[: match.end()])
        return len(_encoded(before)), len(_encoded(until))


def _encoded(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


class Heard(Struct):
    """What a piece of output comes to: the replies to give, in order, whether the program asked
    once more than there are replies, and whether it is ended."""

    replies: list[bytes]
    asked_more: bool = False
    stops: bool = False


class Dialogue:
    """The prompts of a launch, one after another, and the texts that end it.

    A prompt is looked for after the one before it, on either stream, and its patience begins when
    the one before it was answered. A text may come in pieces: of each stream as much is remembered
    as the longest text that is looked for, and more for a pattern."""

    def __init__(
        self,
        answers: Sequence[Answering],
        stop_texts: Sequence[tuple[str, bytes]],
        started: float,
        beyond: Answering | None = None,
    ) -> None:
        self._answers = list(answers)
        self._stop_texts = tuple(stop_texts)
        self._tails: dict[str, bytes] = {}
        self._since = started
        #: The prompt for which there is no reply any more.
        self._beyond = beyond
        #: Prompts that came, with the replies given.
        self.conversation: list[tuple[bytes, bytes]] = []

    @property
    def waited_for(self) -> Answering | None:
        """The prompt that must come next; None when all have been answered."""
        return self._answers[0] if self._answers else None

    @property
    def unused(self) -> list[bytes]:
        """The replies for which no prompt has come."""
        return [each.reply for each in self._answers]

    @property
    def overdue_at(self) -> float | None:
        """The moment at which the prompt that is waited for is overdue."""
        return self._since + self._answers[0].within if self._answers else None

    def feed(self, stream: str, chunk: bytes, now: float) -> Heard:
        """Take a piece of output that came on a stream at a moment."""
        seen = self._tails.get(stream, b"") + chunk
        heard = Heard([])
        while self._answers and (found := self._answers[0].find(seen)) is not None:
            answer = self._answers.pop(0)
            shown = answer.prompt if not answer.is_pattern else _last_line(seen[: found[1]])
            seen = seen[found[1] :]
            self.conversation.append((shown, answer.reply))
            heard.replies.append(answer.reply)
            self._since = now
        if not self._answers and self._beyond is not None and self._beyond.find(seen) is not None:
            self._beyond, heard.asked_more = None, True
        heard.stops = any(where == stream and text in seen for where, text in self._stop_texts)
        self._tails[stream] = seen[-self._remembered :]
        return heard

    @property
    def _remembered(self) -> int:
        """How many bytes of a stream are remembered; at least one."""
        left = [*self._answers, *([self._beyond] if self._beyond is not None else ())]
        if any(each.is_pattern for each in left):
            return MOST_SEARCHED
        return max((len(text) for text in [*(each.prompt for each in left), *self._texts]), default=1)

    @property
    def _texts(self) -> list[bytes]:
        return [text for _, text in self._stop_texts]


def _last_line(text: bytes) -> bytes:
    """Return the line in which a prompt ends, as far as it is printed."""
    return text[text.rstrip(b"\n").rfind(b"\n") + 1 :]
