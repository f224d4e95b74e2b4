"""What people wait for in the pages: ``python -m bench.interface [ADDRESS PASSWORD]``.

Starts the demo, or takes an application that runs already (one with a large estate: see docs/estate.md). Printed are,
for every page: requests and bytes of a first visit, how much the page shifts while it comes (cumulative layout shift),
its long tasks, and the time from a click to its heading when everything else is there already; for the server the
median and p95 of each answer; and how busy the page of a run at rest keeps the browser.
"""

from __future__ import annotations

import statistics
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from playwright.sync_api import Page, expect, sync_playwright
from tests.e2e.application import APP_FLAGS, BROWSER, Api, Application

PAGES = {
    "readiness": "/", "estate": "/estate", "protection": "/protection", "crosswalks": "/crosswalks",
    "plan": "/plans/{plan}", "start": "/plans/{plan}/start", "runs": "/runs", "evidence": "/evidence",
}  # fmt: skip
ANSWERS = ("/readiness", "/site-line", "/plans", "/groups", "/workloads", "/sites", "/runs", "/plans/{plan}")
TIMES = 60
WATCH = """() => {
  window.shift = 0; window.long = 0;
  new PerformanceObserver((list) => { for (const one of list.getEntries()) if (!one.hadRecentInput) window.shift += one.value; }).observe({ type: "layout-shift", buffered: true });
  new PerformanceObserver((list) => { for (const one of list.getEntries()) window.long += one.duration; }).observe({ type: "longtask", buffered: true });
}"""
QUIET_S = 4.0
"""Pages are watched for so long: what comes later shifts them too."""
AT_REST_S = 20.0
STARTED_S = 15.0


def main() -> None:
    """Print the tables."""
    with _application() as (address, password):
        api = Api(address, password)
        plan = _some_plan(api)
        _answers(api, plan)
        with sync_playwright() as driver:
            chromium = driver.chromium.launch(executable_path=BROWSER, args=APP_FLAGS)
            expect.set_options(timeout=60_000)
            context = chromium.new_context(viewport={"width": 1280, "height": 800})
            page = context.new_page()
            page.goto(address)
            page.get_by_label("Password").fill(password)
            page.get_by_role("button", name="Sign in").click()
            expect(page.get_by_role("button", name="Sign out")).to_be_visible()
            _pages(page, address, plan)
            _at_rest(page, address, api, plan)
            chromium.close()


@contextmanager
def _application() -> Iterator[tuple[str, str]]:
    if len(sys.argv) > 2:
        yield sys.argv[1], sys.argv[2]
        return
    app = Application()
    try:
        app.start()
        # What is kept is made anew within seconds of the start.
        time.sleep(STARTED_S)
        yield app.address, app.password
    finally:
        app.close()


def _some_plan(api: Api) -> str:
    return str(api.get("/readiness")["plans"][0]["code"])


def _answers(api: Api, plan: str) -> None:
    print(f"{'answer':24} {'kB':>7} {'median ms':>10} {'p95 ms':>8}")
    for path in ANSWERS:
        took, size = [], 0
        reply = api.http.get(path.format(plan=plan))
        if reply.status_code != 200:
            continue
        for _ in range(TIMES):
            begin = time.perf_counter()
            size = len(api.http.get(path.format(plan=plan)).content)
            took.append((time.perf_counter() - begin) * 1e3)
        took.sort()
        print(f"{path:24} {size / 1e3:7.1f} {statistics.median(took):10.1f} {took[int(TIMES * 0.95)]:8.1f}")


def _pages(page: Page, address: str, plan: str) -> None:
    print(
        f"\n{'page':12} {'requests':>9} {'kB':>7} {'script kB':>10} {'shift':>7} {'long ms':>8} {'click ms':>9}"
    )
    cdp = page.context.new_cdp_session(page)
    cdp.send("Network.enable")
    for name, path in PAGES.items():
        got: dict[str, Any] = {"requests": 0, "bytes": 0, "script": 0}
        kinds: dict[str, str] = {}

        def answered(event: Any, kinds: dict[str, str] = kinds) -> None:
            kinds[event["requestId"]] = event["type"]

        def came(event: Any, got: dict[str, Any] = got, kinds: dict[str, str] = kinds) -> None:
            got["requests"] += 1
            got["bytes"] += event["encodedDataLength"]
            if kinds.get(event["requestId"]) == "Script":
                got["script"] += event["encodedDataLength"]

        cdp.send("Network.clearBrowserCache")
        cdp.on("Network.responseReceived", answered)
        cdp.on("Network.loadingFinished", came)
        page.goto(address + path.format(plan=plan))
        page.evaluate(WATCH)
        expect(page.locator("h1").first).to_be_visible()
        page.wait_for_timeout(QUIET_S * 1e3)
        shift, long = page.evaluate("[window.shift, window.long]")
        cdp.remove_listener("Network.responseReceived", answered)
        cdp.remove_listener("Network.loadingFinished", came)
        click = _click_to_heading(page, address, path.format(plan=plan))
        print(
            f"{name:12} {got['requests']:9} {got['bytes'] / 1e3:7.0f} {got['script'] / 1e3:10.0f}"
            f" {shift:7.3f} {long:8.0f} {click:9.0f}"
        )


def _click_to_heading(page: Page, address: str, path: str) -> float:
    """From another page of a warm application, by a link, as people go; until the heading is another one."""
    page.goto(f"{address}/settings/retired" if path != "/settings/retired" else address)
    expect(page.locator("main h1").first).to_be_visible()
    script = """async (path) => {
      const before = document.querySelector("main h1");
      const begin = performance.now();
      history.pushState({}, "", path);
      window.dispatchEvent(new PopStateEvent("popstate", { state: {} }));
      while (true) {
        const now = document.querySelector("main h1");
        if (now && now !== before && now.textContent.trim()) return performance.now() - begin;
        if (performance.now() - begin > 20000) return -1;
        await new Promise((again) => requestAnimationFrame(again));
      }
    }"""
    page.evaluate(script, path)
    page.goto(f"{address}/settings/retired")
    expect(page.locator("main h1").first).to_be_visible()
    return float(page.evaluate(script, path))


def _at_rest(page: Page, address: str, api: Api, plan: str) -> None:
    """How busy the page of a run that is held keeps its process."""
    run = api.start_test(plan, 1)
    api.send("POST", f"/runs/{run}/controls", {"kind": "hold"}, **{"Idempotency-Key": "bench-interface"})
    page.goto(f"{address}/runs/{run}")
    expect(page.get_by_test_id("run-time")).to_be_visible()
    page.wait_for_timeout(5000)
    cdp = page.context.new_cdp_session(page)
    cdp.send("Performance.enable")
    busy = [_task_s(cdp)]
    page.wait_for_timeout(AT_REST_S * 1e3)
    busy.append(_task_s(cdp))
    print(f"\nthe page of a run at rest: {100 * (busy[1] - busy[0]) / AT_REST_S:.1f} % of a core")
    api.send(
        "POST",
        f"/runs/{run}/controls",
        {"kind": "abort", "text": "bench"},
        **{"Idempotency-Key": "bench-over"},
    )


def _task_s(cdp: Any) -> float:
    metrics = cdp.send("Performance.getMetrics")["metrics"]
    return float(next(one["value"] for one in metrics if one["name"] == "TaskDuration"))


if __name__ == "__main__":
    main()
