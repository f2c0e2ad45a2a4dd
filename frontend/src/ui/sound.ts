/** The sound device at a rate; one that it refuses is resampled by the browser. */
export function openSound(rate: number): AudioContext {
  try {
    return new AudioContext({ sampleRate: rate });
  } catch {
    return new AudioContext();
  }
}
