import { useEffect, useRef, useState } from "react";
import {
  Button,
  Dialog,
  DialogTrigger,
  FileTrigger,
  Form,
  Input,
  Label,
  Meter,
  Popover,
  TextField,
} from "react-aria-components";
import styled from "styled-components";
import type { Asked } from "../api";
import { playingTime } from "../format";
import { Written } from "../parts/written";
import { colour, font } from "../theme";
import { useRecorder } from "./recorder";

type About = {
  assistant: string;
  greeting: string;
  examples: string[];
  file_types: string[];
  file_bytes: number;
  seconds_a_note: number;
  said: Asked[];
};

const here = location.pathname.replace(/\/$/, "");

const Page = styled.main`
  display: grid;
  grid-template-rows: auto minmax(0, 1fr) auto;
  height: 100dvh;
  max-width: 44rem;
  margin: 0 auto;
  background: ${colour.sheet};
  h1 {
    margin: 0;
    padding: 1rem 1.1rem 0.8rem;
    font: 600 1.35rem/1.2 ${font.book};
  }
`;

const Head = styled.header`
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 1rem;
  padding-right: 1.1rem;
  border-bottom: 3px double ${colour.rule};
`;

const Asking = styled(Popover)`
  max-width: 20rem;
  padding: 0.9rem 1.1rem;
  background: ${colour.sheet};
  border: 1.5px solid ${colour.ink};
  p {
    margin: 0 0 0.3rem;
  }
`;

const Talk = styled.div`
  overflow-y: auto;
  padding: 1rem 1.1rem;
  display: flex;
  flex-direction: column;
  gap: 0.9rem;
  p {
    margin: 0;
    font: 400 1.08rem/1.45 ${font.book};
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  img {
    max-width: 100%;
    margin-top: 0.4rem;
    display: block;
  }
  audio {
    width: 100%;
    max-width: 22rem;
    height: 2.6rem;
    margin-top: 0.3rem;
  }
`;

/* Flat rows: a rule, what was asked, and below it what was answered. */
const Question = styled.div`
  padding-top: 0.9rem;
  border-top: 1px solid ${colour.rule};
  && p {
    font: 600 0.98rem/1.45 ${font.plain};
  }
  small {
    color: ${colour.faded};
  }
`;

const Answer = styled.div`
  padding-bottom: 0.2rem;
`;

const Choose = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  margin-top: 0.5rem;
`;

const Plain = styled(Button)`
  padding: 0.55rem 1rem;
  border: 1.5px solid ${colour.ink};
  background: transparent;
  color: ${colour.ink};
  cursor: pointer;
  &[data-disabled] {
    opacity: 0.45;
  }
`;

const Strong = styled(Plain)<{ $on?: boolean }>`
  background: ${(props) => (props.$on ? colour.buoy : colour.ink)};
  border-color: ${(props) => (props.$on ? colour.buoy : colour.ink)};
  color: ${colour.sheet};
  font-weight: 600;
`;

const Foot = styled.footer`
  border-top: 1px solid ${colour.rule};
  padding: 0.8rem 1.1rem calc(0.8rem + env(safe-area-inset-bottom));
  display: grid;
  gap: 0.6rem;
  form,
  > div {
    display: flex;
    gap: 0.5rem;
    align-items: center;
    flex-wrap: wrap;
  }
  /* What is typed has a line of its own where the buttons would not fit beside it. */
  .typed {
    flex: 1 1 100%;
  }
  @media (min-width: 36rem) {
    .typed {
      flex: 1 1 12rem;
    }
  }
  label {
    position: absolute;
    clip-path: inset(50%);
  }
  input {
    flex: 1 1 10rem;
    width: 100%;
    font: inherit;
    color: inherit;
    padding: 0.55rem 0.7rem;
    background: ${colour.sea};
    border: 1px solid ${colour.faded};
  }
`;

const Level = styled(Meter)`
  flex: 1;
  height: 0.7rem;
  background: ${colour.rule};
  i {
    display: block;
    height: 100%;
    background: ${colour.kelp};
  }
`;

async function told<Answer>(response: Response): Promise<Answer> {
  const body = await response.json().catch(() => ({}));
  if (!response.ok)
    throw new Error([body.detail, body.remedy].filter(Boolean).join(": ") || response.statusText);
  return body;
}

function dataUri(file: File): Promise<string> {
  return new Promise((resolve, reject) => {
    const reader = new FileReader();
    reader.onload = () => resolve(reader.result as string);
    reader.onerror = () => reject(new Error(`${file.name} cannot be read`));
    reader.readAsDataURL(file);
  });
}

/** A guest types or records, and hears the answer. */
export function Guest() {
  const [about, setAbout] = useState<About | null>(null);
  const [said, setSaid] = useState<Asked[]>([]);
  const [text, setText] = useState("");
  const [asking, setAsking] = useState("");
  const [problem, setProblem] = useState("");
  const recorder = useRecorder(about?.seconds_a_note ?? 60);
  const end = useRef<HTMLDivElement>(null);

  useEffect(() => {
    fetch(`${here}/about`)
      .then((response) => told<About>(response))
      .then((found) => {
        setAbout(found);
        setSaid(found.said);
      })
      .catch((error: Error) => setProblem(error.message));
  }, []);
  useEffect(() => {
    // In braces: newer browsers give a promise here, which is no clean-up function.
    void end.current?.scrollIntoView({ block: "end" });
  }, [said, asking]);

  const say = async (what: string, body: BodyInit, type: string) => {
    setAsking(what);
    setProblem("");
    try {
      const answer = await told<Asked>(
        await fetch(`${here}/say`, { method: "POST", body, headers: { "Content-Type": type } }),
      );
      setSaid((before) => [...before, answer]);
      if (answer.sound) void new Audio(answer.sound.link).play().catch(() => undefined);
    } catch (error) {
      setProblem((error as Error).message);
    } finally {
      setAsking("");
    }
  };
  const clear = async () => {
    setProblem("");
    const response = await fetch(`${here}/conversation`, { method: "DELETE" });
    if (response.ok) setSaid([]);
    else await told(response).catch((error: Error) => setProblem(error.message));
  };
  const sendFiles = async (chosen: File[]) => {
    const tooBig = chosen.find((file) => file.size > (about?.file_bytes ?? 0));
    if (tooBig) {
      setProblem(
        `${tooBig.name} is too big: at most ${(about!.file_bytes / 1e6).toFixed(1)} MB are taken.`,
      );
      return;
    }
    const files = await Promise.all(
      chosen.map(async (file) => ({
        name: file.name,
        media_type: file.type,
        content: await dataUri(file),
      })),
    );
    const words = text.trim();
    setText("");
    await say(
      words || chosen.map((file) => file.name).join(", "),
      JSON.stringify({ text: words, files }),
      "application/json",
    );
  };
  const sayText = (words: string) =>
    say(words, JSON.stringify({ text: words }), "application/json");

  if (!about) return <Page role={problem ? "alert" : undefined}>{problem}</Page>;
  return (
    <Page>
      <Head>
        <h1>
          {about.assistant.replaceAll("-", " ").replace(/^./, (first) => first.toUpperCase())}
        </h1>
        {said.length > 0 && (
          <DialogTrigger>
            <Plain isDisabled={Boolean(asking)}>Start over</Plain>
            <Asking placement="bottom end">
              <Dialog aria-label="Start over">
                {({ close }) => (
                  <>
                    <p>Everything that was said here is erased, for good.</p>
                    <Choose>
                      <Strong
                        onPress={() => {
                          close();
                          void clear();
                        }}
                      >
                        Erase and start over
                      </Strong>
                      <Plain onPress={close}>Cancel</Plain>
                    </Choose>
                  </>
                )}
              </Dialog>
            </Asking>
          </DialogTrigger>
        )}
      </Head>
      <Talk aria-live="polite">
        <Answer>
          <p>{about.greeting || "What would you like to know?"}</p>
          {said.length === 0 && (
            <Choose>
              {about.examples.map((example) => (
                <Plain
                  key={example}
                  onPress={() => void sayText(example)}
                  isDisabled={Boolean(asking)}
                >
                  {example}
                </Plain>
              ))}
            </Choose>
          )}
        </Answer>
        {said.map((each) => (
          <Exchange key={each.turn} asked={each} choose={(value) => void sayText(value)} />
        ))}
        {asking && (
          <Question>
            <p>{asking}</p>
            <small>is being answered…</small>
          </Question>
        )}
        {(problem || recorder.problem) && <p role="alert">{problem || recorder.problem}</p>}
        <div ref={end} />
      </Talk>
      <Foot>
        {recorder.recording ? (
          <div>
            <audio controls src={recorder.recording.address} aria-label="Your recording" />
            <Strong
              onPress={() => {
                const { blob } = recorder.recording!;
                recorder.drop();
                void say("Your recording", blob, blob.type || "audio/webm");
              }}
              isDisabled={Boolean(asking)}
            >
              Send it
            </Strong>
            <Plain onPress={recorder.drop}>Discard</Plain>
          </div>
        ) : recorder.running ? (
          <div>
            <Level aria-label="Level" value={recorder.level * 100}>
              <i style={{ width: `${Math.round(recorder.level * 100)}%` }} />
            </Level>
            <span>{playingTime(recorder.seconds)}</span>
            <Strong $on onPress={recorder.stop}>
              Stop
            </Strong>
          </div>
        ) : (
          <Form
            onSubmit={(event) => {
              event.preventDefault();
              if (!text.trim()) return;
              void sayText(text.trim());
              setText("");
            }}
          >
            <TextField value={text} onChange={setText} className="typed">
              <Label>What to ask</Label>
              <Input placeholder="Type here, or record" maxLength={2000} autoComplete="off" />
            </TextField>
            <Plain type="submit" isDisabled={!text.trim() || Boolean(asking)}>
              Send
            </Plain>
            {about.file_types.length > 0 && (
              <FileTrigger
                acceptedFileTypes={about.file_types}
                onSelect={(chosen) => void (chosen?.length && sendFiles([...chosen]))}
              >
                <Plain isDisabled={Boolean(asking)}>Attach</Plain>
              </FileTrigger>
            )}
            <Strong onPress={() => void recorder.start()} isDisabled={Boolean(asking)}>
              Record
            </Strong>
          </Form>
        )}
      </Foot>
    </Page>
  );
}

function Exchange({ asked, choose }: { asked: Asked; choose: (value: string) => void }) {
  return (
    <>
      <Question>
        <p>{asked.text || (asked.files.length ? asked.files.join(", ") : "…")}</p>
        {asked.heard && <small>heard from your recording</small>}
      </Question>
      <Answer>
        <Written text={asked.answer} />
        {asked.attachments.map((each) =>
          each.media_type.startsWith("image/") ? (
            <img key={each.link} src={each.link} alt={each.name || "A picture"} />
          ) : (
            <a key={each.link} href={each.link} target="_blank" rel="noreferrer">
              {each.name || "A file"}
            </a>
          ),
        )}
        {asked.places.map((each) => (
          <a key={each.name} href={`geo:${each.latitude},${each.longitude}`}>
            {each.name}
          </a>
        ))}
        {asked.sound && (
          <audio controls src={asked.sound.link} aria-label="The answer" preload="none" />
        )}
        {asked.choices.length > 0 && (
          <Choose>
            {asked.choices.map((each) => (
              <Plain key={each.value} onPress={() => choose(each.value)}>
                {each.label}
              </Plain>
            ))}
          </Choose>
        )}
      </Answer>
    </>
  );
}
