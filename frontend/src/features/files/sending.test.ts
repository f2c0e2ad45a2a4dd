import { QueryClient } from "@tanstack/react-query";
import { beforeEach, describe, expect, test, vi } from "vitest";
import { sendFile } from "../../api/upload";
import { addFile } from "./queries";
import { chosenFiles, queueOf } from "./sending";

vi.mock("../../api/upload", () => ({ sendFile: vi.fn() }));
vi.mock("./queries", () => ({
  addFile: vi.fn(async () => ({ files: [] })),
  setQuery: (id: number) => ({ queryKey: ["sets", id] }),
}));

const file = (name: string, size = 1) => ({ file: new File(["x".repeat(size)], name), folder: "" });
const settled = () => new Promise((resolve) => setTimeout(resolve, 0));
let sets = 0;

/** Uploads that end when they are told to. */
function held() {
  const ends: { name: string; done: () => void; fail: (error: Error) => void }[] = [];
  vi.mocked(sendFile).mockImplementation(
    (_, sent: File, __, signal) =>
      new Promise((resolve, reject) => {
        signal.addEventListener("abort", () => reject(new Error("Stopped.")));
        ends.push({ name: sent.name, done: () => resolve({ id: 7 } as never), fail: reject });
      }),
  );
  return ends;
}

describe("files on their way into a set", () => {
  beforeEach(() => vi.clearAllMocks());

  test("two are sent at a time, and each that is there leaves the list", async () => {
    const ends = held();
    const queue = queueOf(++sets, new QueryClient());
    queue.add([file("a"), file("b"), file("c")]);
    expect(ends.map((end) => end.name)).toEqual(["a", "b"]);
    ends[0]?.done();
    await settled();
    expect(ends.map((end) => end.name)).toEqual(["a", "b", "c"]);
    expect(queue.files.map((one) => one.file.name)).toEqual(["b", "c"]);
    expect(addFile).toHaveBeenCalledWith(sets, 7, "");
  });

  test("small files are sent before great ones", () => {
    const ends = held();
    queueOf(++sets, new QueryClient()).add([file("an hour", 3), file("a minute", 2), file("a second")]);
    expect(ends.map((end) => end.name)).toEqual(["a second", "a minute"]);
  });

  test("one that is refused says why, lets the next go, and can be sent again or left out", async () => {
    const ends = held();
    const queue = queueOf(++sets, new QueryClient());
    queue.add([file("a"), file("b"), file("c")]);
    ends[0]?.fail(new Error("a cannot be read as audio."));
    await settled();
    expect(queue.files[0]?.error).toBe("a cannot be read as audio.");
    expect(ends.map((end) => end.name)).toEqual(["a", "b", "c"]);
    ends[1]?.done();
    await settled();
    queue.again(queue.files[0]?.key ?? 0);
    expect(ends.at(-1)?.name).toBe("a");
    expect(queue.files[0]?.error).toBeUndefined();
    queue.drop(queue.files[0]?.key ?? 0);
    await settled();
    expect(queue.files.map((one) => one.file.name)).toEqual(["c"]);
  });

  test("whoever listens hears of each change until it stops", () => {
    held();
    const queue = queueOf(++sets, new QueryClient());
    let heard = 0;
    const stop = queue.listen(() => heard++);
    queue.add([file("a")]);
    expect(heard).toBe(1);
    stop();
    queue.add([file("b")]);
    expect(heard).toBe(1);
  });

  test("a page that comes back finds the same files on their way", () => {
    held();
    const queries = new QueryClient();
    queueOf(++sets, queries).add([file("a")]);
    expect(queueOf(sets, queries).files).toHaveLength(1);
  });
});

test("files of a chosen folder keep it", () => {
  const inside = new File(["x"], "b.wav");
  Object.defineProperty(inside, "webkitRelativePath", { value: "takes/late/b.wav" });
  expect(chosenFiles([inside])[0]?.folder).toBe("takes/late");
});
