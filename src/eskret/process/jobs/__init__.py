"""What a worker can be asked, one function a request. Its arguments are what the request holds, checked as they are annotated."""

from eskret.process.jobs import computing, files, history, published, running, user_code
from eskret.process.jobs.job import JOBS, Work

__all__ = ["JOBS", "Work", "computing", "files", "history", "published", "running", "user_code"]
