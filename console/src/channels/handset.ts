import { useEffect, useRef, useState } from "react";
import microphone from "./microphone.js?url";

export type CallState = "" | "calling" | "ringing" | "answered" | "over";

const RATE = 8_000;
/** Seconds of sound that are kept back, so that it does not break. */
const AHEAD = 0.12;

/** A telephone in the page: its microphone and its keys, as a call to a channel. */
export function useHandset(channel: string) {
  const [state, setState] = useState<CallState>("");
  const [problem, setProblem] = useState("");
  const [level, setLevel] = useState(0);
  const open = useRef<{ socket: WebSocket; close: () => void } | null>(null);

  useEffect(() => () => open.current?.close(), []);

  const call = async () => {
    setProblem("");
    setState("calling");
    const context = new AudioContext();
    let stream: MediaStream | null = null;
    try {
      stream = await navigator.mediaDevices.getUserMedia({
        audio: { echoCancellation: true, noiseSuppression: false },
      });
      await context.audioWorklet.addModule(microphone);
    } catch {
      setProblem("The microphone cannot be used; the keys can.");
    }
    const address = `${location.protocol === "https:" ? "wss" : "ws"}://${location.host}/api/channels/${channel}/talk`;
    const socket = new WebSocket(address);
    socket.binaryType = "arraybuffer";
    let next = 0;
    const play = (data: ArrayBuffer) => {
      const samples = Float32Array.from(new Int16Array(data), (value) => value / 32_768);
      setLevel(samples.reduce((top, value) => Math.max(top, Math.abs(value)), 0));
      const buffer = context.createBuffer(1, samples.length, RATE);
      buffer.copyToChannel(samples, 0);
      const source = context.createBufferSource();
      source.buffer = buffer;
      source.connect(context.destination);
      next = Math.max(next, context.currentTime + AHEAD);
      source.start(next);
      next += buffer.duration;
    };
    socket.onmessage = (message) => {
      if (message.data instanceof ArrayBuffer) return play(message.data);
      const told: { state: CallState; cause?: string } = JSON.parse(message.data);
      setState(told.state);
      if (told.state === "over" && told.cause && told.cause !== "hung-up")
        setProblem(`The call ended: ${told.cause}.`);
    };
    if (stream) {
      const node = new AudioWorkletNode(context, "microphone", { numberOfOutputs: 0 });
      node.port.onmessage = (message) =>
        socket.readyState === WebSocket.OPEN && socket.send(message.data);
      context.createMediaStreamSource(stream).connect(node);
    }
    const close = () => {
      stream?.getTracks().forEach((track) => track.stop());
      if (context.state !== "closed") void context.close();
      if (socket.readyState <= WebSocket.OPEN) socket.close();
      open.current = null;
    };
    socket.onclose = (event) => {
      if (event.code >= 4000) setProblem(event.reason);
      setState("over");
      setLevel(0);
      close();
    };
    open.current = { socket, close };
  };

  return {
    state,
    problem,
    level,
    call,
    press: (key: string) => open.current?.socket.send(key),
    hangUp: () => open.current?.socket.send("hang-up"),
  };
}
