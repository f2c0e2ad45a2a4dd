import { useEffect, useState } from "react";
import { type Clip, Looper } from "./looper";

/** A looper for some clips, and whether it plays; it is closed with the page. */
export function useLooper(rate: number, channels: number, clips: Clip[] | undefined) {
  const [looper, setLooper] = useState<Looper>();
  const [, redraw] = useState(0);
  useEffect(() => {
    const made = new Looper(rate, channels);
    made.onChange = () => redraw((n) => n + 1);
    setLooper(made);
    return () => made.close();
  }, [rate, channels]);
  useEffect(() => {
    if (clips) looper?.setClips(clips);
  }, [looper, clips]);
  return looper;
}
