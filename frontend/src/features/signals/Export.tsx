import { useState } from "react";
import { BASE } from "../../api/base";
import type { SignalKinds, SignalRequest } from "../../api/client";
import { Check } from "../../ui/Checkbox";
import { Select } from "../../ui/Select";

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
        <div>
          <span aria-hidden="true" className="block text-xs text-quiet">
            Format
          </span>
          <Select
            name="Format"
            value={format}
            choices={kinds.formats.map((one) => ({ value: one, label: one.toUpperCase() }))}
            onChoose={(to) => {
              setFormat(to);
              if (to === "flac" && float) setWordLength("24 bit");
            }}
            className={BOX}
          />
        </div>
        <div>
          <span aria-hidden="true" className="block text-xs text-quiet">
            Word length
          </span>
          <Select
            name="Word length"
            value={wordLength}
            choices={lengths.map((one) => ({ value: one, label: one }))}
            onChoose={setWordLength}
            className={BOX}
          />
        </div>
        <Check
          label="TPDF dither"
          checked={dither && !float}
          disabled={float}
          onChange={setDither}
          className={`pb-1.5 ${float ? "text-quiet" : ""}`}
        />
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
