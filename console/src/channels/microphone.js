/* Runs beside the page: what the microphone hears, 20 ms at a time, at 8 kHz in 16 bits. */
class Microphone extends AudioWorkletProcessor {
  constructor() {
    super();
    this.kept = [];
    this.place = 0;
  }

  process(inputs) {
    const samples = inputs[0]?.[0];
    if (!samples) return true;
    for (const sample of samples) this.kept.push(sample);
    const step = sampleRate / 8000;
    const needed = Math.ceil(160 * step);
    while (this.kept.length >= needed + this.place) {
      const frame = new Int16Array(160);
      for (let count = 0; count < 160; count += 1) {
        const from = this.place + count * step;
        const until = Math.max(from + 1, from + step);
        let sum = 0;
        let taken = 0;
        for (let at = Math.floor(from); at < until && at < this.kept.length; at += 1) {
          sum += this.kept[at];
          taken += 1;
        }
        frame[count] = Math.max(
          -32768,
          Math.min(32767, Math.round((sum / Math.max(1, taken)) * 32767)),
        );
      }
      this.port.postMessage(frame.buffer, [frame.buffer]);
      const used = this.place + 160 * step;
      this.kept.splice(0, Math.floor(used));
      this.place = used - Math.floor(used);
    }
    return true;
  }
}

registerProcessor("microphone", Microphone);
