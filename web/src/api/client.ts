import createClient, { type Middleware } from "openapi-fetch";
import { ref } from "vue";
import { untilAnswered } from "@/api/again";
import type { paths } from "@/api/schema";
import type { Problem } from "@/api/types";

/** A change that was asked of the API. */
export interface Deed {
  method: string;
  path: string;
  body: string;
  based_on: string;
}

/** A refusal of the server, with its sentence as the message. */
export class ApiError extends Error {
  constructor(
    readonly problem: Problem,
    /** What was sent, where it was refused for want of an approval: it can be asked for. */
    readonly deed?: Deed,
  ) {
    super([problem.detail, problem.remedy].filter(Boolean).join(" "));
  }
}

/** No answer came to what may have changed something: nobody here knows whether it did. */
export class NoAnswer extends Error {
  constructor(cause: unknown) {
    super("No answer came from the server. If this was to change something, it may have been done all the same: look before you try again.", { cause });
  }
}

/** Whether the server answered last time; the shell says so when it did not. */
export const connected = ref(true);

/** Raised when the session is gone, so that the shell can ask to sign in. */
export const signedOut = ref(0);

let csrf = "";

export function keepCsrf(token: string): void {
  csrf = token;
}

/** For the few calls that set all their headers themselves. */
export function keptCsrf(): string {
  return csrf;
}

// Pages ask by themselves all the time; the session ends when nobody has touched one for long.
let touched = Date.now();
for (const kind of ["pointerdown", "keydown", "wheel"]) {
  addEventListener(kind, () => (touched = Date.now()), { capture: true, passive: true });
}

/** Since when nobody has touched this page, in milliseconds. */
export const idleMs = () => Date.now() - touched;

const ROOT = "/api/v1/";
const bodies = new WeakMap<Request, Promise<string>>();
const refused = new WeakMap<Response, Promise<Deed>>();

const headers: Middleware = {
  onRequest({ request }) {
    request.headers.set("Maestoso-Idle", String(Math.round(idleMs() / 1000)));
    if (request.method === "GET") return request;
    request.headers.set("X-CSRFToken", csrf);
    bodies.set(request, request.clone().text());
    return request;
  },
  onResponse({ request, response }) {
    connected.value = response.status !== 503;
    const body = bodies.get(request);
    if (response.status === 409 && body) {
      const path = decodeURIComponent(new URL(request.url).pathname.slice(ROOT.length));
      refused.set(response, body.then((text) => ({ method: request.method, path, body: text, based_on: request.headers.get("If-Match") ?? "" })));
    }
    return undefined;
  },
  onError({ request, error }) {
    // Given up by the page itself: that says nothing of the connection.
    if (error instanceof DOMException && error.name === "AbortError") return undefined;
    connected.value = false;
    return request.method === "GET" ? undefined : new NoAnswer(error);
  },
};

const sent = (request: Request) => (request.headers.has("Idempotency-Key") ? untilAnswered(() => fetch(request.clone())) : fetch(request));

export const api = createClient<paths>({ baseUrl: "/", fetch: sent });
api.use(headers);

/** The data of a reply, or the problem as an error. */
export async function take<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await call;
  if (response.ok) return data as T;
  const problem = isProblem(error)
    ? error
    : {
        type: "about:blank",
        title: "no-answer",
        status: response.status,
        code: "no-answer",
        detail: `The server answered with status ${response.status}.`,
      };
  if (problem.code === "not-signed-in") signedOut.value += 1;
  const deed = problem.code === "deed-needs-approval" ? await refused.get(response) : undefined;
  throw new ApiError(problem, deed);
}

/** Does what was approved: the same that was asked for, with the number of the request. */
export async function doApproved(deed: Deed, approval: number): Promise<unknown> {
  const sent = { "Content-Type": "application/json", "X-CSRFToken": csrf, "Maestoso-Approval": String(approval), "Idempotency-Key": crypto.randomUUID(), ...(deed.based_on && { "If-Match": deed.based_on }) };
  const response = await fetch(ROOT + deed.path.split("/").map(encodeURIComponent).join("/"), { method: deed.method, body: deed.body || null, headers: sent });
  const said: unknown = response.status === 204 ? null : await response.json();
  return take(Promise.resolve({ data: said, error: said, response }));
}

function isProblem(value: unknown): value is Problem {
  return typeof value === "object" && value !== null && "detail" in value && "code" in value;
}

/** What went wrong, for people. */
export function sentenceOf(error: unknown): string {
  if (error instanceof ApiError || error instanceof NoAnswer) return error.message;
  return "The server does not answer. It is asked again by itself; nothing is lost.";
}
