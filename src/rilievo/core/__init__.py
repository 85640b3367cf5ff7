"""The computation: files, method, regions, measurements, comparison. No interface code."""
