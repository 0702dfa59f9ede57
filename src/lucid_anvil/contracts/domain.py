"""What a domain is: a field of work with its methods, registered once through an entry point."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

GROUP = "lucid_anvil.domains"
"""Group of entry points; each names one `Domain`"""


@dataclass(frozen=True)
class Domain:
    """One field of work. Nothing of it is imported until it is asked for."""

    name: str
    title: str
    methods: Mapping[str, str]
    """By a method's name the module whose `METHOD` it is, in full"""
    guards: Mapping[str, str] = field(default_factory=dict)
    """By the name of a kind of guard where its `GuardKind` is, as "module:name"."""
    checks: Mapping[str, str] = field(default_factory=dict)
    """By what a check of the walk-round senses where its `Sense` is, as "module:name"."""
    channels: Mapping[str, str] = field(default_factory=dict)
    """By a kind of input the unit of what its sensors measure"""
    sides: tuple[str, ...] = ()
    """Where what it shows on the Bench is, each as "module:name" of a `desktop.bench.side.Side`; a method that none of
    them knows is drawn from its views"""
    papers: Mapping[str, str] = field(default_factory=dict)
    """By a method's name where the `PaperKind` of its findings is, as "module:name"; test reports of all else"""
    scenes: Mapping[str, str] = field(default_factory=dict)
    """By the kind of a stand-in's scene where it is, as "module:name": a model with `kind`, whose `bench(rig)` makes
    the stand-in bench"""
    faults: tuple[str, ...] = ()
    """Kinds of faults that its stand-ins know, beside those that every bench has"""
    demo: str = ""
    """What lays its part of the demo job, as "module:name" of a function of the lab; none where it is empty"""
