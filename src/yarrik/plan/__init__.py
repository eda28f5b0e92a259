"""The step graph of a product, the fingerprint of each step, and the reason why one has to run."""

from yarrik.plan.actions import (
    Action,
    ApplyPatches,
    Assemble,
    Clone,
    CollectLicences,
    CompileDeviceTrees,
    ConfigureKernel,
    Describe,
    Download,
    FetchFile,
    FetchRuntime,
    PlaceBootFiles,
    PrepareFolder,
    RunCommands,
    Split,
    Stage,
    TakeFile,
    TryOnBench,
    Unpack,
    WriteDisks,
)
from yarrik.plan.assess import Assessment, assess
from yarrik.plan.choices import choices, unknown_build_systems
from yarrik.plan.graph import Graph, plan_product
from yarrik.plan.reasons import Reason, all_differences, reason_for
from yarrik.plan.steps import Step, fingerprint_of, parts_of
from yarrik.plan.surroundings import Surroundings

__all__ = [
    "Action",
    "ApplyPatches",
    "Assemble",
    "Assessment",
    "Clone",
    "CollectLicences",
    "CompileDeviceTrees",
    "ConfigureKernel",
    "Describe",
    "Download",
    "FetchFile",
    "FetchRuntime",
    "Graph",
    "PlaceBootFiles",
    "PrepareFolder",
    "Reason",
    "RunCommands",
    "Split",
    "Stage",
    "Step",
    "Surroundings",
    "TakeFile",
    "TryOnBench",
    "Unpack",
    "WriteDisks",
    "all_differences",
    "assess",
    "choices",
    "fingerprint_of",
    "parts_of",
    "plan_product",
    "reason_for",
    "unknown_build_systems",
]
