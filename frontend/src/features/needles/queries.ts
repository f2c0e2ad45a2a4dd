import { queryOptions } from "@tanstack/react-query";
import { client, type SignalRequest, unwrap } from "../../api/client";

/** What sounds: the audio at an address, or a signal that is made. */
export type Sounding = { address: string } | { request: SignalRequest; rate: number };

const asked = (one: { request: SignalRequest; rate: number }) => ({
  request: JSON.stringify(one.request),
  rate: one.rate,
});

/** What needles show along it; it never changes. */
export const needlesQuery = (sounding: Sounding) =>
  queryOptions({
    queryKey: ["needles", sounding],
    queryFn: ({ signal }) =>
      unwrap(
        "address" in sounding
          ? client.GET("/api/audio/{address}/needles", {
              params: { path: { address: sounding.address } },
              signal,
            })
          : client.GET("/api/signals/needles", { params: { query: asked(sounding) }, signal }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
  });

/** Running spectra along a minute of it. */
export const bandsQuery = (sounding: Sounding, part: number) =>
  queryOptions({
    queryKey: ["bands", sounding, part],
    queryFn: ({ signal }) =>
      unwrap(
        "address" in sounding
          ? client.GET("/api/audio/{address}/bands", {
              params: { path: { address: sounding.address }, query: { part } },
              signal,
            })
          : client.GET("/api/signals/bands", { params: { query: { ...asked(sounding), part } }, signal }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
  });
