"""What every pass of a frame comes to, as digests: equal ones in several frames are the same work done again."""

from __future__ import annotations

from wendascope.backends.doors import Session
from wendascope.backends.edit import Edit
from wendascope.replay.jobs import remote
from wendascope.task import Task


@remote
def pass_results(session: Session, job: Task) -> list[str]:
    """For every pass a digest of all images that it draws into, every byte of them, as they are after its last step;
    empty where they cannot all be read, or have no pixels. The frame is run once, and once more up to the end of each
    pass whose images are written again later.
    """
    passes = session.frame.passes
    results = [""] * len(passes)
    staying = [index for index in range(len(passes)) if session.stays(index)]
    others = [index for index in range(len(passes)) if index not in set(staying)]
    for number, group in enumerate([staying, *([index] for index in others)]):
        job.progress("results of passes", number / (len(others) + 1))
        if not group:
            continue
        last = None if group is staying else int(session.frame.steps.call[int(passes.end[group[0]]) - 1]) + 1
        session.run(session.prepare(Edit(keep_until=last)))
        digests = session.digests([passes.targets[index] for index in group])
        for index, digest in zip(group, digests, strict=True):
            results[index] = digest
    return results
