/** Eyes on the tip: short tones, and the instruction spoken where the device has a voice of its own. Off until asked for. */
import { useEffect, useRef, useSyncExternalStore } from "react";

export type Sound = "off" | "tones" | "spoken";
type Tone = "kept" | "waits" | "wrong";

const listeners = new Set<() => void>();
const now = () => (localStorage.getItem("sound") as Sound | null) ?? "off";
let audio: AudioContext | null = null;

/** A voice that needs no network; none on many devices. */
function localVoice(): SpeechSynthesisVoice | undefined {
  return window.speechSynthesis
    ?.getVoices()
    .find((v) => v.localService && v.lang.toLowerCase().startsWith(document.documentElement.lang || "en"));
}

export function useSound(): [Sound, () => void] {
  const sound = useSyncExternalStore((changed) => {
    listeners.add(changed);
    return () => listeners.delete(changed);
  }, now);
  const next: Record<Sound, Sound> = { off: "tones", tones: localVoice() ? "spoken" : "off", spoken: "off" };
  return [
    sound,
    () => {
      localStorage.setItem("sound", next[sound]);
      if (next[sound] !== "off") play("kept");
      else window.speechSynthesis?.cancel();
      for (const changed of listeners) changed();
    },
  ];
}

const HERTZ: Record<Tone, readonly number[]> = { kept: [660], waits: [520, 780], wrong: [220, 180] };

function play(tone: Tone) {
  // Made at the first tone: browsers allow sound only after somebody has touched the page.
  audio ??= new AudioContext();
  const at = audio.currentTime;
  HERTZ[tone].forEach((hertz, k) => {
    if (!audio) return;
    const swing = audio.createOscillator();
    const level = audio.createGain();
    swing.frequency.value = hertz;
    level.gain.setValueAtTime(0.0001, at + k * 0.16);
    level.gain.exponentialRampToValueAtTime(0.2, at + k * 0.16 + 0.02);
    level.gain.exponentialRampToValueAtTime(0.0001, at + k * 0.16 + 0.14);
    swing.connect(level).connect(audio.destination);
    swing.start(at + k * 0.16);
    swing.stop(at + k * 0.16 + 0.15);
  });
}

/** Sounds what happens at a station: a row kept, a refusal, a machine that waits; and speaks the instruction at hand. */
export function useEars(seq: number, wrong: boolean, waits: boolean, slip: React.RefObject<HTMLElement | null>) {
  const before = useRef({ seq, wrong, waits, said: "" });
  useEffect(() => {
    const was = before.current;
    const sound = now();
    if (sound !== "off") {
      if (wrong && !was.wrong) play("wrong");
      else if (waits && !was.waits) play("waits");
      else if (seq > was.seq) play("kept");
    }
    const words = slip.current?.querySelector("h2")?.textContent ?? "";
    const voice = localVoice();
    if (sound === "spoken" && voice && words && words !== was.said) {
      const spoken = new SpeechSynthesisUtterance(words);
      spoken.voice = voice;
      window.speechSynthesis.cancel();
      window.speechSynthesis.speak(spoken);
    }
    before.current = { seq, wrong, waits, said: words };
  });
}
