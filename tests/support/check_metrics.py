#!/usr/bin/python3
"""Reads OpenMetrics text as monitors do: check_metrics.py FILE. Prints each sample: NAME{label=value,…} VALUE."""
import sys

from prometheus_client.openmetrics.parser import text_string_to_metric_families

with open(sys.argv[1], encoding="utf-8") as file:
    for family in text_string_to_metric_families(file.read()):
        for sample in family.samples:
            labels = ",".join(f"{name}={value}" for name, value in sorted(sample.labels.items()))
            print(f"{sample.name}{{{labels}}} {sample.value:g}")
