"""Catenum reproduces blocking and deadlocks with concurrent transactions, explains them, and proves
the fix.

``__all__`` is the face of the package: each command as a function, what they take, and what they
return. A name is loaded when it is asked for, so that ``import catenum`` costs nothing.

    >>> import catenum
    >>> with catenum.connect() as server:
    ...     found = catenum.explore("berth-swap", target=server)
    >>> found.never("deadlock")
    <not so: deadlock in 4 of 6 schedules, such as early late early late>
"""

from catenum.core.version import __version__

TYPE_CHECKING = False  # typing itself takes longer to load than this file
if TYPE_CHECKING:
    from typing import Any

    from catenum.api.check import check as check
    from catenum.api.churn import churn as churn
    from catenum.api.draw import draw as draw
    from catenum.api.draw import explain as explain
    from catenum.api.explore import explore as explore
    from catenum.api.explore import explore_levels as explore_levels
    from catenum.api.history import History as History
    from catenum.api.history import history as history
    from catenum.api.intake import LogOptions as LogOptions
    from catenum.api.intake import LogReading as LogReading
    from catenum.api.intake import Restaged as Restaged
    from catenum.api.intake import read_logs as read_logs
    from catenum.api.intake import restage as restage
    from catenum.api.levels import levels as levels
    from catenum.api.levels import need as need
    from catenum.api.lint import LintResult as LintResult
    from catenum.api.lint import lint as lint
    from catenum.api.listener import Listener as Listener
    from catenum.api.now import now as now
    from catenum.api.pace import PaceStopped as PaceStopped
    from catenum.api.pace import pace as pace
    from catenum.api.play import play as play
    from catenum.api.play import play_orders as play_orders
    from catenum.api.preflight import PreflightResult as PreflightResult
    from catenum.api.preflight import ProfileResult as ProfileResult
    from catenum.api.preflight import check_profile as check_profile
    from catenum.api.preflight import preflight as preflight
    from catenum.api.propose import propose as propose
    from catenum.api.release import Released as Released
    from catenum.api.release import release as release
    from catenum.api.report import report as report
    from catenum.api.results import read as read
    from catenum.api.scenarios import load as load
    from catenum.api.scenarios import loads as loads
    from catenum.api.servers import Server as Server
    from catenum.api.servers import connect as connect
    from catenum.api.sweep import sweep as sweep
    from catenum.api.trial import trial as trial
    from catenum.api.trial import trial_under_load as trial_under_load
    from catenum.api.watch import Watched as Watched
    from catenum.api.watch import watch as watch
    from catenum.core.check.result import CheckResult as CheckResult
    from catenum.core.compare.churn_result import ChurnResult as ChurnResult
    from catenum.core.compare.trial import Trial as Trial
    from catenum.core.errors import CatenumError as CatenumError
    from catenum.core.errors import InputError as InputError
    from catenum.core.errors import LibraryError as LibraryError
    from catenum.core.errors import SaveError as SaveError
    from catenum.core.errors import TargetError as TargetError
    from catenum.core.levels.matrix import Matrix as Matrix
    from catenum.core.levels.need import Need as Need
    from catenum.core.pace.results import PaceResult as PaceResult
    from catenum.core.propose.proposals import Proposals as Proposals
    from catenum.core.record.recording import Recording as Recording
    from catenum.core.scenario.reader import ScenarioFile as ScenarioFile
    from catenum.core.snapshot.sample import Sample as Sample
    from catenum.core.space.exploration import Exploration as Exploration
    from catenum.core.sweep.result import Sweep as Sweep
    from catenum.engines.profiles import use_profile as use_profile
    from catenum.lab.run.orders import PlayedOrder as PlayedOrder
    from catenum.live.release import Refused as Refused
    from catenum.live.watch import WatchOptions as WatchOptions

#: Name to the module that has it.
_MODULES = {
    "CatenumError": "core.errors",
    "CheckResult": "core.check.result",
    "ChurnResult": "core.compare.churn_result",
    "Exploration": "core.space.exploration",
    "History": "api.history",
    "InputError": "core.errors",
    "LibraryError": "core.errors",
    "LintResult": "api.lint",
    "Listener": "api.listener",
    "LogOptions": "api.intake",
    "LogReading": "api.intake",
    "Matrix": "core.levels.matrix",
    "Need": "core.levels.need",
    "PaceResult": "core.pace.results",
    "PaceStopped": "api.pace",
    "PlayedOrder": "lab.run.orders",
    "PreflightResult": "api.preflight",
    "ProfileResult": "api.preflight",
    "Proposals": "core.propose.proposals",
    "Recording": "core.record.recording",
    "Refused": "live.release",
    "Released": "api.release",
    "Restaged": "api.intake",
    "Sample": "core.snapshot.sample",
    "SaveError": "core.errors",
    "ScenarioFile": "core.scenario.reader",
    "Server": "api.servers",
    "Sweep": "core.sweep.result",
    "TargetError": "core.errors",
    "Trial": "core.compare.trial",
    "WatchOptions": "live.watch",
    "Watched": "api.watch",
    "check": "api.check",
    "check_profile": "api.preflight",
    "churn": "api.churn",
    "connect": "api.servers",
    "draw": "api.draw",
    "explain": "api.draw",
    "explore": "api.explore",
    "explore_levels": "api.explore",
    "history": "api.history",
    "levels": "api.levels",
    "lint": "api.lint",
    "load": "api.scenarios",
    "loads": "api.scenarios",
    "need": "api.levels",
    "now": "api.now",
    "pace": "api.pace",
    "play": "api.play",
    "play_orders": "api.play",
    "preflight": "api.preflight",
    "propose": "api.propose",
    "read": "api.results",
    "read_logs": "api.intake",
    "release": "api.release",
    "report": "api.report",
    "restage": "api.intake",
    "sweep": "api.sweep",
    "trial": "api.trial",
    "trial_under_load": "api.trial",
    "use_profile": "engines.profiles",
    "watch": "api.watch",
}

__all__ = [
    "CatenumError",
    "CheckResult",
    "ChurnResult",
    "Exploration",
    "History",
    "InputError",
    "LibraryError",
    "LintResult",
    "Listener",
    "LogOptions",
    "LogReading",
    "Matrix",
    "Need",
    "PaceResult",
    "PaceStopped",
    "PlayedOrder",
    "PreflightResult",
    "ProfileResult",
    "Proposals",
    "Recording",
    "Refused",
    "Released",
    "Restaged",
    "Sample",
    "SaveError",
    "ScenarioFile",
    "Server",
    "Sweep",
    "TargetError",
    "Trial",
    "WatchOptions",
    "Watched",
    "__version__",
    "check",
    "check_profile",
    "churn",
    "connect",
    "draw",
    "explain",
    "explore",
    "explore_levels",
    "history",
    "levels",
    "lint",
    "load",
    "loads",
    "need",
    "now",
    "pace",
    "play",
    "play_orders",
    "preflight",
    "propose",
    "read",
    "read_logs",
    "release",
    "report",
    "restage",
    "sweep",
    "trial",
    "trial_under_load",
    "use_profile",
    "watch",
]


def __getattr__(name: str) -> "Any":  # typing is not loaded
    """The first use of a name of ``__all__`` (PEP 562)."""
    if name not in _MODULES:
        raise AttributeError(f"module 'catenum' has no attribute {name!r}")
    from importlib import import_module

    from catenum.core.display import set_renderer

    set_renderer(_html)
    found = getattr(import_module(f"catenum.{_MODULES[name]}"), name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])


def _html(result: object) -> str | None:
    from catenum.render.html.notebook import html_of

    return html_of(result)
