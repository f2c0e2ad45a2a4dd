import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { BASE } from "../../api/base";
import { client, NO_ANSWER, Problem, problemFrom, type Schemas, shouldRetry, unwrap } from "../../api/client";
import type { Asked } from "./address";

export type Listening = Schemas["ListeningBody"];
export type HeardSide = Schemas["HeardSideBody"];
export type Test = Schemas["TestBody"];
export type NewTest = Schemas["NewTestBody"];
export type Sitting = Schemas["SittingBody"];
export type Slot = Schemas["SlotBody"];
export type Results = Schemas["ResultsBody"];
export type Odds = Schemas["OddsBody"];
export type Answer = Schemas["AnswerBody"];

/** What a test asks, in words. */
export const KINDS = { abx: "told apart", rating: "graded", order: "graded in a hidden order" } as const;

const LONG_MS = 60_000;

export const sidesQuery = (asked: Asked) =>
  queryOptions({
    queryKey: ["listening", asked],
    queryFn: ({ signal }) => unwrap(client.POST("/api/listening/sides", { body: asked, signal })),
    enabled: asked.sides.length > 0,
    staleTime: LONG_MS,
    placeholderData: (previous) => previous,
  });

/** Samples of every side over the passage; none while one of them is missing. */
export const clipsQuery = (heard: Listening | undefined, band: { low: number | null; high: number | null }) =>
  queryOptions({
    queryKey: ["clips", heard, band],
    queryFn: ({ signal }) =>
      Promise.all((heard?.sides ?? []).map((side) => samplesAt(clipAddress(heard, side, band), signal))),
    enabled: heard !== undefined,
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: LONG_MS,
    retry: shouldRetry,
  });

function clipAddress(
  heard: Listening | undefined,
  side: HeardSide,
  band: { low: number | null; high: number | null },
): string {
  const query = new URLSearchParams({
    parts: JSON.stringify(side.parts),
    rate: String(heard?.rate),
    channels: String(heard?.channels),
    start: String(heard?.start),
    stop: String(heard?.stop),
  });
  if (band.low !== null && band.high !== null) {
    query.set("low", String(band.low));
    query.set("high", String(band.high));
  }
  return `/api/listening/clip?${query}`;
}

async function samplesAt(address: string, signal: AbortSignal): Promise<Float32Array> {
  let response: Response;
  try {
    response = await fetch(`${BASE}${address}`, { signal });
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new Problem(0, "NoAnswer", NO_ANSWER);
  }
  if (!response.ok) throw problemFrom(response.status, await response.json().catch(() => null));
  return new Float32Array(await response.arrayBuffer());
}

export const outlookQuery = (trials: number, heard: number) =>
  queryOptions({
    queryKey: ["outlook", trials, heard],
    queryFn: ({ signal }) =>
      unwrap(client.GET("/api/listening/outlook", { params: { query: { trials, heard } }, signal })),
    enabled: trials > 0,
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: (previous) => previous,
  });

export const testsQuery = queryOptions({
  queryKey: ["listening-tests"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/listening/tests", { signal })),
});

export const testQuery = (id: number) =>
  queryOptions({
    queryKey: ["listening-tests", id],
    queryFn: ({ signal }) =>
      unwrap(client.GET("/api/listening/tests/{test_id}", { params: { path: { test_id: id } }, signal })),
  });

export const resultsQuery = (id: number) =>
  queryOptions({
    queryKey: ["listening-tests", id, "results"],
    queryFn: ({ signal }) =>
      unwrap(
        client.GET("/api/listening/tests/{test_id}/results", { params: { path: { test_id: id } }, signal }),
      ),
  });

export const useMakeTest = () =>
  useMutation({ mutationFn: (body: NewTest) => unwrap(client.POST("/api/listening/tests", { body })) });

/** Clips of the slots of a trial, in their order. */
export const heardQuery = (slots: Slot[]) =>
  queryOptions({
    queryKey: ["heard", slots.map((slot) => slot.address)],
    queryFn: ({ signal }) =>
      Promise.all(slots.map((slot) => samplesAt(`/api/listening/heard/${slot.address}`, signal))),
    enabled: slots.length > 0,
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 0,
    retry: shouldRetry,
  });

export const sittingQuery = (id: number | null) =>
  queryOptions({
    queryKey: ["sitting", id],
    queryFn: ({ signal }) =>
      unwrap(
        client.GET("/api/listening/sittings/{sitting_id}", {
          params: { path: { sitting_id: id ?? 0 } },
          signal,
        }),
      ),
    enabled: id !== null,
    staleTime: Number.POSITIVE_INFINITY,
  });

/** What is done with a sitting answers with it as it is now. */
function useSittingChange<Body>(test: number, send: (body: Body) => Promise<Sitting>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: send,
    // The same answer that comes twice counts once, so that it may be sent again.
    retry: shouldRetry,
    retryDelay: 1000,
    onSuccess: (sitting) => {
      queries.setQueryData(sittingQuery(sitting.id).queryKey, sitting);
      if (sitting.state !== "open") void queries.invalidateQueries({ queryKey: testQuery(test).queryKey });
    },
  });
}

export const useSitDown = (test: number) =>
  useSittingChange(test, (_: undefined) =>
    unwrap(client.POST("/api/listening/tests/{test_id}/sittings", { params: { path: { test_id: test } } })),
  );

export const useAnswer = (test: number, sitting: number) =>
  useSittingChange(test, (body: Answer) =>
    unwrap(
      client.POST("/api/listening/sittings/{sitting_id}/answers", {
        params: { path: { sitting_id: sitting } },
        body,
      }),
    ),
  );

export const useBreakOff = (test: number, sitting: number) =>
  useSittingChange(test, (_: undefined) =>
    unwrap(
      client.POST("/api/listening/sittings/{sitting_id}/break-off", {
        params: { path: { sitting_id: sitting } },
      }),
    ),
  );

export const notesQuery = (subject: string) =>
  queryOptions({
    queryKey: ["listening-notes", subject],
    queryFn: ({ signal }) =>
      unwrap(client.GET("/api/listening/notes", { params: { query: { subject } }, signal })),
    enabled: subject !== "",
  });

export function useDeleteTest(test_id: number) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () =>
      unwrap(
        client.DELETE("/api/listening/tests/{test_id}", {
          params: { path: { test_id } },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: testsQuery.queryKey }),
  });
}

export function useAddNote(subject: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (note: { side: string; second: number | null; text: string }) =>
      unwrap(client.POST("/api/listening/notes", { body: { ...note, subject } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: notesQuery(subject).queryKey }),
  });
}

export function useDeleteNote(subject: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (note_id: number) =>
      unwrap(
        client.DELETE("/api/listening/notes/{note_id}", {
          params: { path: { note_id } },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: notesQuery(subject).queryKey }),
  });
}

export function useChangeWords() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (words: string[]) => unwrap(client.POST("/api/listening/words", { body: { words } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["listening-notes"] }),
  });
}
