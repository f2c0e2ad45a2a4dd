import { useState } from "react";
import { BASE } from "../../api/base";
import type { SignalKinds, SignalRequest } from "../../api/client";

interface Asked {
  request: SignalRequest;
  rate: number;
  name: string;
  format: string;
  word_length: string;
  dither: boolean;
}

/** Where a signal is had as a file. */
export function exportAddress(asked: Asked): string {
  const query = new URLSearchParams({
    request: JSON.stringify(asked.request),
    rate: String(asked.rate),
    name: asked.name,
    format: asked.format,
    word_length: asked.word_length,
    dither: String(asked.dither),
  });
  return `${BASE}/api/signals/export?${query}`;
}

const BOX = "h-8 rounded border border-quiet bg-sheet px-2";

/** The signal as a file, with its word length and dither. */
export function Export(props: { kinds: SignalKinds; request: SignalRequest; rate: number; name: string }) {
  const { kinds, request, rate, name } = props;
  const [format, setFormat] = useState(kinds.formats[0] ?? "wav");
  const [wordLength, setWordLength] = useState("24 bit");
  const [dither, setDither] = useState(true);
  const float = wordLength.includes("float");
  const lengths = kinds.word_lengths.filter((one) => format !== "flac" || !one.includes("float"));
  return (
    <section className="border-t border-line pt-3">
      <h2 className="font-semibold">As a file</h2>
      <div className="mt-2 flex flex-wrap items-end gap-3">
        <label>
          <span className="block text-xs text-quiet">Format</span>
          <select
            value={format}
            onChange={(event) => {
              setFormat(event.target.value);
              if (event.target.value === "flac" && float) setWordLength("24 bit");
            }}
            className={BOX}
          >
            {kinds.formats.map((one) => (
              <option key={one} value={one}>
                {one.toUpperCase()}
              </option>
            ))}
          </select>
        </label>
        <label>
          <span className="block text-xs text-quiet">Word length</span>
          <select value={wordLength} onChange={(event) => setWordLength(event.target.value)} className={BOX}>
            {lengths.map((one) => (
              <option key={one}>{one}</option>
            ))}
          </select>
        </label>
        <label className={`flex items-center gap-2 pb-1.5 ${float ? "text-quiet" : ""}`}>
          <input
            type="checkbox"
            checked={dither && !float}
            disabled={float}
            onChange={(event) => setDither(event.target.checked)}
            className="accent-text"
          />
          TPDF dither
        </label>
        <a
          href={exportAddress({
            request,
            rate,
            name,
            format,
            word_length: wordLength,
            dither: dither && !float,
          })}
          download
          className="ml-auto inline-flex h-9 items-center rounded-md border border-line bg-sheet px-3 font-medium hover:border-quiet"
        >
          Export
        </a>
      </div>
    </section>
  );
}
