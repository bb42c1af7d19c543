"""What a person asked for and what takes its time: done on a thread, reported when it is done."""

from collections.abc import Callable
from threading import Thread

from kanaleto.supervision.owned import fault_sentence, report
from kanaleto.tui.shared.context import Context, Stoppable


def begin_elsewhere(
    context: Context,
    name: str,
    begins: str,
    work: Callable[[], str],
    refusals: tuple[type[Exception], ...],
    then: Callable[[], None] | None = None,
) -> Stoppable:
    """`work` gives the sentence that is reported at its end. One of its `refusals` keeps the line that asked open.
    `then` is done by the interface afterwards; neither is where it was stopped meanwhile."""
    done = Stoppable()

    def end(text: str) -> None:
        if then is None:
            context.tell(text)
        elif not done.stop.is_set():
            then()
            context.tell(text)
        done.set_result(None)  # only now: the line that waits for it closes then

    def run() -> None:
        try:
            text = work()
        except refusals as error:
            why = str(error)
            context.later(lambda: context.trouble("answer", why))
            done.set_exception(error)
        except Exception as error:  # an internal error: reported, and the line that waits does not wait for ever
            report(name, error)
            why = fault_sentence(error)
            context.later(lambda: context.trouble("answer", why))
            done.set_exception(error)
        else:
            context.later(lambda: end(text))

    context.tell(begins)
    Thread(target=run, name=name, daemon=True).start()
    return done
