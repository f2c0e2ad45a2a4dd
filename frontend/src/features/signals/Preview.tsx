import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useEffect, useMemo, useRef } from "react";
import type { LevelMap, Measure, SignalPreview } from "../../api/client";
import { measuresQuery } from "../../api/measures";
import { kilohertz, number, valueText } from "../../ui/numbers";
import { PlotBox } from "../../ui/PlotBox";
import { keepDrawn } from "../../ui/redraw";
import { drawStrip, greatest, magnification } from "../pair/plots/draw";
import { spectrumChart } from "../pair/plots/SpectrumPlot";

/** A signal as it will be rendered: waveform, spectrum, map and figures. */
export function Preview({ preview }: { preview: SignalPreview }) {
  const drawn = useMemo(() => spectrumChart({ reference: preview.spectrum }, preview.rate), [preview]);
  return (
    <div className="min-w-0">
      <Waveform preview={preview} />
      <Row title="Spectrum" about={["the whole signal", "dBFS of a sine"]}>
        <PlotBox chart={drawn} label="Spectrum of the signal" className="h-44 min-w-0 2xl:h-60" />
      </Row>
      <Row
        title="Map"
        about={[
          "level over time",
          `${number(preview.level_map.low, 0)} Hz to ${kilohertz(preview.level_map.high)} kHz`,
          "the fuller, the louder",
        ]}
      >
        <MapPlot map={preview.level_map} />
      </Row>
      <Figures preview={preview} />
    </div>
  );
}

function Row({ title, about, children }: { title: string; about: string[]; children: ReactNode }) {
  return (
    <div className="mt-3 grid grid-cols-[7.5rem_1fr] border-t border-line pt-2">
      <div className="pr-2 text-xs leading-5 text-quiet">
        <h2 className="text-sm font-semibold text-text">{title}</h2>
        {about.map((line) => (
          <p key={line}>{line}</p>
        ))}
      </div>
      {children}
    </div>
  );
}

/** Draws again when the box or the theme changes. */
function useCanvas(draw: (canvas: HTMLCanvasElement) => void) {
  const ref = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const canvas = ref.current;
    if (!canvas) return;
    return keepDrawn(canvas, () => draw(canvas));
  }, [draw]);
  return ref;
}

function Waveform({ preview }: { preview: SignalPreview }) {
  const { strip, frames, rate } = preview;
  const raised = magnification(greatest(strip));
  const draw = useMemo(
    () => (canvas: HTMLCanvasElement) =>
      drawStrip(canvas, strip, { start: 0, stop: frames }, "reference", raised),
    [strip, frames, raised],
  );
  const ref = useCanvas(draw);
  const about = [`${number(frames / rate, 3)} s`, `${number(frames, 0)} frames`];
  return (
    <div className="grid grid-cols-[7.5rem_1fr]">
      <div className="pr-2 text-xs leading-5 text-quiet">
        <h2 className="text-sm font-semibold text-text">Waveform</h2>
        {about.map((line) => (
          <p key={line}>{line}</p>
        ))}
        {raised > 0 && <p>shown +{raised} dB</p>}
      </div>
      <canvas
        ref={ref}
        role="img"
        aria-label="Waveform of the signal"
        className={`w-full bg-sheet ${preview.channels > 1 ? "h-40" : "h-28"}`}
      />
    </div>
  );
}

const RANGE = 110;

function MapPlot({ map }: { map: LevelMap }) {
  const draw = useMemo(() => (canvas: HTMLCanvasElement) => drawMap(canvas, map), [map]);
  const ref = useCanvas(draw);
  return (
    <canvas
      ref={ref}
      role="img"
      aria-label="Level of the signal over time and frequency"
      className="h-40 w-full bg-sheet 2xl:h-56"
    />
  );
}

/** One ink, thin for soft and full for loud; frequency climbs upwards in octaves. */
function drawMap(canvas: HTMLCanvasElement, { levels, floor }: LevelMap): void {
  const rows = levels[0]?.length ?? 0;
  canvas.width = levels.length;
  canvas.height = rows;
  canvas.style.imageRendering = "auto";
  const pen = canvas.getContext("2d");
  if (!pen || rows === 0) return;
  pen.fillStyle = getComputedStyle(document.documentElement).getPropertyValue("--reference").trim();
  const loudest = Math.max(...levels.map((column) => Math.max(...column)));
  const lowest = Math.max(floor, loudest - RANGE);
  for (const [x, column] of levels.entries())
    for (const [y, level] of column.entries()) {
      const share = (level - lowest) / Math.max(1, loudest - lowest);
      if (share <= 0) continue;
      pen.globalAlpha = share ** 2;
      pen.fillRect(x, rows - 1 - y, 1, 1);
    }
}

function Figures({ preview }: { preview: SignalPreview }) {
  const measures = useQuery(measuresQuery);
  const known = useMemo(
    () => new Map<string, Measure>(measures.data?.measures.map((one) => [one.key, one])),
    [measures.data],
  );
  return (
    <dl className="mt-3 grid grid-cols-[repeat(auto-fill,minmax(9rem,1fr))] gap-x-6 gap-y-2 border-t border-line pt-3">
      {preview.readings.map((reading) => {
        const measure = known.get(reading.measure);
        if (!measure) return null;
        return (
          <div key={reading.measure} title={`${measure.definition} Source: ${measure.source}`}>
            <dt className="text-xs text-quiet">{measure.title}</dt>
            <dd>
              {reading.value === null ? (
                <span className="text-quiet">{reading.why}</span>
              ) : (
                <>
                  {valueText(reading, measure)} <span className="text-quiet">{measure.unit}</span>
                </>
              )}
            </dd>
          </div>
        );
      })}
    </dl>
  );
}
