"""Every address of the application."""

from .bench import bench_routes
from .carried import carried_routes, found_routes
from .jobs import job_routes
from .line import line_routes, practice_routes, run_line_routes
from .logbook import change_routes, due_routes, logbook_routes
from .manner import machine_manner_routes, manner_routes
from .network import network_routes
from .setup import setup_routes
from .stations import STATION_ROUTES, runs

ROUTERS = (
    bench_routes,
    setup_routes,
    carried_routes,
    found_routes,
    network_routes,
    logbook_routes,
    due_routes,
    change_routes,
    job_routes,
    manner_routes,
    machine_manner_routes,
    runs,
    line_routes,
    run_line_routes,
    practice_routes,
    *STATION_ROUTES,
)
