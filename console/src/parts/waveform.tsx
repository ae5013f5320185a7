import { scaleLinear } from "@visx/scale";
import { Bar } from "@visx/shape";
import { useEffect, useRef, useState } from "react";
import { Slider, SliderThumb, SliderTrack, ToggleButton } from "react-aria-components";
import styled from "styled-components";
import { type Clip, soundAddress } from "../api";
import { playingTime } from "../format";
import { colour } from "../theme";

const COLUMNS = 60;
const WIDTH = 240;
const HEIGHT = 34;

const Box = styled.div`
  display: grid;
  grid-template-columns: auto minmax(8rem, ${WIDTH}px) auto;
  align-items: center;
  gap: 0.7rem;
  max-width: 24rem;
  small {
    color: ${colour.faded};
  }
  svg {
    display: block;
    width: 100%;
    height: ${HEIGHT}px;
  }
`;

const Play = styled(ToggleButton)`
  display: grid;
  place-items: center;
  width: 2.1rem;
  height: 2.1rem;
  border: 1.5px solid ${colour.ink};
  border-radius: 50%;
  background: transparent;
  cursor: pointer;
  &[data-selected] {
    background: ${colour.ink};
    color: ${colour.sheet};
  }
`;

const Thumb = styled(SliderThumb)`
  top: 50%;
  width: 3px;
  height: ${HEIGHT}px;
  background: ${colour.buoy};
`;

/** The heights of a waveform in another number of columns: the largest of those that meet. */
export function columns(waveform: number[], count: number): number[] {
  return Array.from({ length: count }, (_, column) => {
    const first = Math.floor((column * waveform.length) / count);
    const last = Math.max(first + 1, Math.floor(((column + 1) * waveform.length) / count));
    return Math.max(0, ...waveform.slice(first, last));
  });
}

/** Plays a clip; its waveform is the slider for the place in it. */
export function Player({
  clip,
  label,
  address,
}: {
  clip: Clip;
  label: string;
  /** Where its sound is, if not where clips are. */
  address?: string;
}) {
  const audio = useRef<HTMLAudioElement>(null);
  const [playing, setPlaying] = useState(false);
  const [at, setAt] = useState(0);
  const [problem, setProblem] = useState("");
  const seconds = clip.seconds ?? 0;

  useEffect(() => {
    if (!playing) return;
    const timer = setInterval(() => setAt(audio.current?.currentTime ?? 0), 80);
    return () => clearInterval(timer);
  }, [playing]);

  const toggle = async (wanted: boolean) => {
    if (!audio.current) return;
    if (!wanted) return audio.current.pause();
    try {
      await audio.current.play();
    } catch {
      setProblem("This browser cannot play the file.");
    }
  };

  const move = (to: number) => {
    setAt(to);
    if (audio.current) audio.current.currentTime = to;
  };

  return (
    <Box>
      <Play
        isSelected={playing}
        onChange={(wanted) => void toggle(wanted)}
        aria-label={`Play: ${label}`}
      >
        <svg
          viewBox="0 0 12 12"
          width="12"
          height="12"
          aria-hidden
          style={{ width: 12, height: 12 }}
        >
          {playing ? (
            <path d="M2 1h3v10H2zM7 1h3v10H7z" fill="currentColor" />
          ) : (
            <path d="M2.5 1v10L11 6z" fill="currentColor" />
          )}
        </svg>
      </Play>
      <Slider
        aria-label={`Place in: ${label}`}
        minValue={0}
        maxValue={seconds || 1}
        step={0.01}
        value={Math.min(at, seconds)}
        onChange={move}
      >
        <SliderTrack>
          <Heights waveform={clip.waveform} played={seconds ? at / seconds : 0} />
          <Thumb />
        </SliderTrack>
      </Slider>
      <small>{problem || playingTime(playing || at ? at : seconds)}</small>
      <audio
        ref={audio}
        src={address ?? soundAddress(clip)}
        preload="none"
        onPlay={() => setPlaying(true)}
        onPause={() => setPlaying(false)}
        onEnded={() => {
          setPlaying(false);
          setAt(0);
        }}
      />
    </Box>
  );
}

function Heights({ waveform, played }: { waveform: number[]; played: number }) {
  const x = scaleLinear({ domain: [0, COLUMNS], range: [0, WIDTH] });
  const y = scaleLinear({ domain: [0, 1], range: [2, HEIGHT] });
  return (
    <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} preserveAspectRatio="none" aria-hidden>
      {columns(waveform, COLUMNS).map((height, column) => (
        <Bar
          key={column}
          x={x(column)}
          y={(HEIGHT - y(height)) / 2}
          width={WIDTH / COLUMNS - 1.4}
          height={y(height)}
          fill={column / COLUMNS < played ? colour.buoy : colour.ink}
        />
      ))}
    </svg>
  );
}
