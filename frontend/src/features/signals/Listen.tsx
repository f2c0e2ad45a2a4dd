import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { SignalRequest } from "../../api/client";
import { Button } from "../../ui/controls";
import { useKeys } from "../../ui/keys";
import { Needles } from "../needles/Needles";
import { exportAddress } from "./Export";

const SOFTER = 12; // dB: test signals are loud, and headphones are on

/** Hear the signal, some decibels down. */
export function Listen({ request, rate }: { request: SignalRequest; rate: number }) {
  const audio = useRef<HTMLAudioElement>(null);
  const [playing, setPlaying] = useState(false);
  const [error, setError] = useState<string>();
  const address = exportAddress({
    request,
    rate,
    name: "signal",
    format: "wav",
    word_length: "24 bit",
    dither: true,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: another sound begins in silence
  useEffect(() => {
    audio.current?.pause();
    setPlaying(false);
    setError(undefined);
  }, [address]);
  const turn = async () => {
    const player = audio.current;
    if (!player) return;
    if (playing) {
      player.pause();
      return;
    }
    player.volume = 10 ** (-SOFTER / 20);
    player.currentTime = 0;
    try {
      await player.play();
      setError(undefined);
    } catch {
      setError("This browser cannot play the signal at this rate; choose another rate, or export it.");
    }
  };
  useKeys({ Space: () => void turn() });
  const sides = useMemo(
    () => [{ name: "Signal", sounding: { request, rate }, ink: "bg-text" }],
    [request, rate],
  );
  const seconds = useCallback(() => audio.current?.currentTime, []);
  return (
    <div className="flex items-center gap-3">
      {error && <p role="alert">{error}</p>}
      <span className="text-quiet">heard {SOFTER} dB softer</span>
      <Button look="main" hint="Space" onClick={() => void turn()}>
        {playing ? "Stop" : "Listen"}
      </Button>
      {playing && (
        <div className="fixed inset-x-0 bottom-0 z-20 border-t border-line bg-sheet px-5 py-1">
          <Needles sides={sides} seconds={seconds} playing />
        </div>
      )}
      {/* biome-ignore lint/a11y/useMediaCaption: a test signal has no words */}
      <audio
        ref={audio}
        src={address}
        preload="none"
        onPlaying={() => setPlaying(true)}
        onPause={() => setPlaying(false)}
        onEnded={() => setPlaying(false)}
      />
    </div>
  );
}
