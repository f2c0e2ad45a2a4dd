import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";

vi.mock("./base", () => ({ BASE: "http://page.test" }));

import {
  client,
  forgeryToken,
  NO_ANSWER,
  onSignedOut,
  Problem,
  problemFrom,
  shouldRetry,
  unwrap,
} from "./client";
import { sendFile } from "./upload";

const answered = (status: number) => new Response(null, { status });

describe("answers of the server", () => {
  test("a problem carries its sentence; what is none says what came", () => {
    const problem = problemFrom(409, { title: "RunStopped", detail: "Run 4 was stopped." });
    expect([problem.status, problem.title, problem.message]).toEqual([
      409,
      "RunStopped",
      "Run 4 was stopped.",
    ]);
    expect(problemFrom(502, "<html>").message).toBe(
      "The server answered with status 502. Nothing was changed.",
    );
    expect(problemFrom(500, null).title).toBe("Unexpected");
  });

  test("data is taken, and everything else thrown", async () => {
    expect(await unwrap(Promise.resolve({ data: 0, response: answered(200) }))).toBe(0);
    expect(await unwrap(Promise.resolve({ response: answered(204) }))).toBeUndefined();
    const refused = unwrap(
      Promise.resolve({ error: { title: "Forbidden", detail: "No." }, response: answered(403) }),
    );
    await expect(refused).rejects.toMatchObject({ status: 403, message: "No." });
    await expect(unwrap(Promise.resolve({ data: null, response: answered(200) }))).rejects.toThrow(Problem);
  });

  test.each([
    [0, true],
    [502, true],
    [503, true],
    [500, false],
    [404, false],
    [401, false],
  ])("after status %d it is asked again: %s", (status, again) => {
    expect(shouldRetry(0, new Problem(status, "", ""))).toBe(again);
    expect(shouldRetry(5, new Problem(status, "", ""))).toBe(false);
  });

  test("what is no answer of the server's is not asked again", () => {
    expect(shouldRetry(0, new Error("a fault of the page"))).toBe(false);
  });
});

describe("requests of the page", () => {
  afterEach(() => vi.unstubAllGlobals());

  const answering = (status: number) => {
    const asked: Request[] = [];
    vi.stubGlobal("fetch", async (request: Request) => {
      asked.push(request);
      return new Response("{}", { status, headers: { "Content-Type": "application/json" } });
    });
    return asked;
  };

  test("a change carries the session's token, a question does not", async () => {
    forgeryToken.keep("abc");
    const asked = answering(200);
    await client.GET("/api/runs");
    await client.POST("/api/sign-out");
    expect(asked.map((request) => request.headers.get("X-CSRFToken"))).toEqual([null, "abc"]);
  });

  test("a change that was sent with the token of another session is sent once more with that of this one", async () => {
    forgeryToken.keep("old");
    const asked: (string | null)[] = [];
    vi.stubGlobal("fetch", async (request: Request) => {
      const token = request.headers.get("X-CSRFToken");
      asked.push(`${request.method} ${token}`);
      if (request.method === "GET") return Response.json({ forgery_token: "new" });
      if (token === "new") return Response.json({ name: null });
      return Response.json({ title: "OtherSession", detail: "load it again" }, { status: 400 });
    });
    const { data } = await client.POST("/api/sign-in", { body: { name: "Nora F.", password: "a word" } });
    expect(data).toEqual({ name: null });
    expect(asked).toEqual(["POST old", "GET null", "POST new"]);
  });

  test("the end of a session is told to who listens, and a wrong password is not the end of one", async () => {
    const listener = vi.fn();
    const end = onSignedOut(listener);
    answering(401);
    await client.POST("/api/sign-in", { body: { name: "Nora F.", password: "wrong" } });
    expect(listener).not.toHaveBeenCalled();
    await client.GET("/api/runs");
    expect(listener).toHaveBeenCalledTimes(1);
    end();
    await client.GET("/api/runs");
    expect(listener).toHaveBeenCalledTimes(1);
  });

  test("a server that is away is a problem to be asked again, a question that was given up is not", async () => {
    vi.stubGlobal("fetch", () => Promise.reject(new TypeError("refused")));
    await expect(client.GET("/api/runs")).rejects.toMatchObject({ status: 0, message: NO_ANSWER });
    vi.stubGlobal("fetch", () => Promise.reject(new DOMException("given up", "AbortError")));
    await expect(client.GET("/api/runs")).rejects.toThrow(DOMException);
  });
});

/** A request that ends as a test says. */
class FakeRequest {
  static last: FakeRequest;
  headers: Record<string, string> = {};
  status = 0;
  response: unknown;
  sent: unknown;
  aborted = false;
  private listeners = new Map<string, (event: unknown) => void>();
  upload = {
    addEventListener: (name: string, act: (event: unknown) => void) => this.on(`upload ${name}`, act),
  };
  constructor(public address = "") {
    FakeRequest.last = this;
  }
  open(_: string, address: string) {
    this.address = address;
  }
  setRequestHeader(name: string, value: string) {
    this.headers[name] = value;
  }
  addEventListener(name: string, act: (event: unknown) => void) {
    this.on(name, act);
  }
  send(body: unknown) {
    this.sent = body;
  }
  abort() {
    this.aborted = true;
    this.tell("abort");
  }
  tell(name: string, event: unknown = {}) {
    this.listeners.get(name)?.(event);
  }
  private on(name: string, act: (event: unknown) => void) {
    this.listeners.set(name, act);
  }
}

describe("a file that is sent", () => {
  beforeEach(() => vi.stubGlobal("XMLHttpRequest", FakeRequest));
  afterEach(() => vi.unstubAllGlobals());

  const file = new File(["x"], "unwrap 1.wav");
  const begun = () => {
    const shares: number[] = [];
    const stop = new AbortController();
    const answer = sendFile<{ id: number }>("/api/uploads", file, (share) => shares.push(share), stop.signal);
    return { answer, shares, stop, request: FakeRequest.last };
  };

  test("it goes with the session's token, tells how far it is, and gives the answer", async () => {
    forgeryToken.keep("abc");
    const { answer, shares, request } = begun();
    expect(request.headers["X-CSRFToken"]).toBe("abc");
    expect(request.sent).toBe(file);
    request.tell("upload progress", { loaded: 1, total: 4 });
    request.tell("upload progress", { loaded: 0, total: 0 });
    expect(shares).toEqual([0.25, 0]);
    request.status = 201;
    request.response = { id: 7 };
    request.tell("load");
    expect(await answer).toEqual({ id: 7 });
  });

  test("a refusal has the server's sentence", async () => {
    const { answer, request } = begun();
    request.status = 413;
    request.response = { title: "TooLarge", detail: "unwrap 1.wav is too large." };
    request.tell("load");
    await expect(answer).rejects.toMatchObject({ status: 413, message: "unwrap 1.wav is too large." });
  });

  test.each([
    ["error", "The connection dropped. Nothing was kept of unwrap 1.wav; it is still chosen here."],
    ["timeout", NO_ANSWER],
  ])("after %s it says what became of the file", async (event, sentence) => {
    const { answer, request } = begun();
    request.tell(event);
    await expect(answer).rejects.toThrow(sentence);
  });

  test("it can be stopped", async () => {
    const { answer, stop, request } = begun();
    stop.abort();
    expect(request.aborted).toBe(true);
    await expect(answer).rejects.toThrow("Stopped. Nothing was kept.");
  });
});
