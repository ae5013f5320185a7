"""A small timetable service, written with our client library as a developer outside would."""
