/** What a sweep sounds like across a room: ticks that rise with the share done, and a chord when it is good enough. */
let audio: AudioContext | null = null;

function tone(hertz: number, seconds: number, delay = 0) {
  audio ??= new AudioContext();
  const at = audio.currentTime + delay;
  const source = audio.createOscillator();
  const volume = audio.createGain();
  source.frequency.value = hertz;
  volume.gain.setValueAtTime(0.0001, at);
  volume.gain.exponentialRampToValueAtTime(0.25, at + 0.01);
  volume.gain.exponentialRampToValueAtTime(0.0001, at + seconds);
  source.connect(volume).connect(audio.destination);
  source.start(at);
  source.stop(at + seconds);
}

export function tick(share: number) {
  tone(220 * 2 ** (2 * share), 0.09);
}

export function chord() {
  [523, 659, 784].forEach((hertz, i) => tone(hertz, 0.9, 0.12 * i));
}
