import { BASE } from "./base";
import { forgeryToken, NO_ANSWER, Problem, problemFrom } from "./client";

/** Sends a file as it is, and tells how much of it is through. XMLHttpRequest, because fetch tells nothing of uploads. */
export function sendFile<Answer>(
  path: string,
  file: File,
  onProgress: (share: number) => void,
  signal: AbortSignal,
): Promise<Answer> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", BASE + path);
    for (const [name, value] of Object.entries(forgeryToken.header())) request.setRequestHeader(name, value);
    request.responseType = "json";
    request.upload.addEventListener("progress", (event) =>
      onProgress(event.loaded / Math.max(1, event.total)),
    );
    request.addEventListener("load", () => {
      if (request.status === 201) resolve(request.response as Answer);
      else reject(problemFrom(request.status, request.response));
    });
    request.addEventListener("error", () =>
      reject(
        new Problem(
          0,
          "Dropped",
          `The connection dropped. Nothing was kept of ${file.name}; it is still chosen here.`,
        ),
      ),
    );
    request.addEventListener("timeout", () => reject(new Problem(0, "NoAnswer", NO_ANSWER)));
    request.addEventListener("abort", () => reject(new Problem(0, "Stopped", "Stopped. Nothing was kept.")));
    signal.addEventListener("abort", () => request.abort());
    request.send(file);
  });
}
