import { useEffect, useRef, useState } from "react";

export type Recording = { blob: Blob; address: string; seconds: number };

/** Records from the microphone: a level while it runs, and what was recorded when it stops. */
export function useRecorder(longest: number) {
  const [level, setLevel] = useState(0);
  const [seconds, setSeconds] = useState(0);
  const [running, setRunning] = useState(false);
  const [recording, setRecording] = useState<Recording | null>(null);
  const [problem, setProblem] = useState("");
  const stopping = useRef<() => void>(() => undefined);

  useEffect(() => () => stopping.current(), []);

  const start = async () => {
    setProblem("");
    setRecording(null);
    let stream: MediaStream;
    try {
      stream = await navigator.mediaDevices.getUserMedia({ audio: true });
    } catch {
      setProblem("The microphone cannot be used. Allow it, or type instead.");
      return;
    }
    const context = new AudioContext();
    const meter = context.createAnalyser();
    context.createMediaStreamSource(stream).connect(meter);
    const values = new Float32Array(meter.fftSize);
    const begun = performance.now();
    const recorder = new MediaRecorder(stream);
    const pieces: Blob[] = [];
    const timer = setInterval(() => {
      meter.getFloatTimeDomainData(values);
      setLevel(Math.min(1, 3 * values.reduce((top, value) => Math.max(top, Math.abs(value)), 0)));
      const passed = (performance.now() - begun) / 1000;
      setSeconds(passed);
      if (passed >= longest) recorder.stop();
    }, 60);
    recorder.ondataavailable = (event) => pieces.push(event.data);
    recorder.onstop = () => {
      clearInterval(timer);
      stream.getTracks().forEach((track) => track.stop());
      void context.close();
      setRunning(false);
      setLevel(0);
      const blob = new Blob(pieces, { type: recorder.mimeType });
      setRecording({
        blob,
        address: URL.createObjectURL(blob),
        seconds: (performance.now() - begun) / 1000,
      });
    };
    stopping.current = () => recorder.state !== "inactive" && recorder.stop();
    recorder.start();
    setRunning(true);
  };

  const drop = () => {
    if (recording) URL.revokeObjectURL(recording.address);
    setRecording(null);
    setSeconds(0);
  };

  return {
    level,
    seconds,
    running,
    recording,
    problem,
    start,
    stop: () => stopping.current(),
    drop,
  };
}
