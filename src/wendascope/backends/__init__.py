"""The graphics interfaces that frames are made with, each behind the same doors."""
