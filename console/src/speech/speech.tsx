import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  Label,
  Radio,
  Tab,
  TabList,
  TabPanel,
  Tabs,
  TextArea,
  TextField,
} from "react-aria-components";
import styled from "styled-components";
import { api, type Rendition } from "../api";
import { Player } from "../parts/waveform";
import { Button, Code, Copy, ErrorNote, Options, Row, Sheet, Text } from "../parts/sheet";
import { colour } from "../theme";

const SAMPLE = "The next boat to Pell leaves at ten past four, from the north pier.";
const FORMATS = ["ogg", "wav", "flac", "mp3", "mulaw"];

const Words = styled(TextField)`
  display: grid;
  gap: 0.2rem;
  max-width: 56rem;
  label {
    font-size: 0.87rem;
    color: ${colour.faded};
  }
  textarea {
    font: inherit;
    color: inherit;
    min-height: 6.5rem;
    padding: 0.5rem 0.6rem;
    background: ${colour.sea};
    border: 1px solid ${colour.faded};
    resize: vertical;
  }
`;

const Choice = styled(Options)`
  margin: 0.7rem 0;
`;

const Panels = styled(Tabs)`
  max-width: 56rem;
  [role="tablist"] {
    display: flex;
    gap: 1rem;
  }
  [role="tab"] {
    cursor: pointer;
    padding: 0.2rem 0;
    border-bottom: 2px solid transparent;
  }
  [role="tab"][data-selected] {
    border-bottom-color: ${colour.ink};
  }
`;

const Heard = styled.div`
  max-width: 56rem;
  margin-top: 1rem;
`;

type Given = {
  text: string;
  voice: string;
  format: string;
  prosody: { rate: number; pitch: number };
};

/** A text is tried, and the request for it copied. */
export function SpeechPage() {
  const [text, setText] = useState(SAMPLE);
  const [voice, setVoice] = useState("whimbrel");
  const [format, setFormat] = useState("ogg");
  const [rate, setRate] = useState("1");
  const [pitch, setPitch] = useState("0");
  const voices = useQuery({ queryKey: ["voices"], queryFn: api.voices, staleTime: Infinity });
  const given = { text, voice, format, prosody: { rate: Number(rate), pitch: Number(pitch) } };
  const making = useMutation({ mutationFn: () => api.render({ ...given, deliver_as: "link" }) });
  return (
    <Sheet>
      <h2>Speech</h2>
      <p>Make a text, or SSML, sound, without an assistant; copy the request that does it.</p>
      <Words value={text} onChange={setText}>
        <Label>Text, or SSML that begins with &lt;speak&gt;</Label>
        <TextArea spellCheck={false} />
      </Words>
      <Choice value={voice} onChange={setVoice} aria-label="Voice">
        <span>Voice</span>
        {voices.data?.map((each) => (
          <Radio key={each.name} value={each.name}>
            {each.name}
          </Radio>
        ))}
      </Choice>
      <Choice value={format} onChange={setFormat} aria-label="Format">
        <span>Format</span>
        {FORMATS.map((each) => (
          <Radio key={each} value={each}>
            {each}
          </Radio>
        ))}
      </Choice>
      <Row>
        <Text label="Pace, 0.5 to 2" value={rate} onChange={setRate} />
        <Text label="Semitones higher, −12 to 12" value={pitch} onChange={setPitch} />
        <Button onPress={() => making.mutate()} isDisabled={making.isPending || !text.trim()}>
          {making.isPending ? "Being made" : "Hear it"}
        </Button>
      </Row>
      {making.error && <ErrorNote role="alert">{making.error.message}</ErrorNote>}
      {making.data && <Made made={making.data} />}
      <Requests given={given} made={making.data} />
    </Sheet>
  );
}

function Made({ made }: { made: Rendition }) {
  const address = new URL(made.link);
  return (
    <Heard>
      <Player
        key={made.link}
        clip={{ id: made.link, ...made, rate: 48_000, origin: "rendered" }}
        address={address.pathname + address.search}
        label="the text as sound"
      />
      <div>
        {made.seconds.toFixed(2)} s, {made.size.toLocaleString()} bytes, {made.media_type}, voice{" "}
        {made.voice}
      </div>
      {made.warnings.map((each) => (
        <ErrorNote key={each}>{each}</ErrorNote>
      ))}
    </Heard>
  );
}

const quoted = (text: string) => `'${text.replaceAll("'", `'\\''`)}'`;

function body(given: Given, deliver_as: string) {
  const { rate, pitch } = given.prosody;
  const prosody = { ...(rate === 1 ? {} : { rate }), ...(pitch === 0 ? {} : { pitch }) };
  return {
    text: given.text,
    voice: given.voice,
    ...(given.format === "ogg" ? {} : { format: given.format }),
    ...(Object.keys(prosody).length ? { prosody } : {}),
    ...(deliver_as === "bytes" ? {} : { deliver_as }),
  };
}

function curl(given: Given) {
  const json = JSON.stringify(body(given, "bytes"));
  return `curl -sS ${location.origin}/api/speech/renditions \\
  -H 'Authorization: Bearer YOUR-KEY' -H 'Content-Type: application/json' \\
  -d ${quoted(json)} -o speech.${given.format}
`;
}

function python(given: Given) {
  const json = JSON.stringify(body(given, "link"), null, 4).replaceAll("\n", "\n    ");
  return `import json
from urllib.request import Request, urlopen

request = Request(
    ${JSON.stringify(`${location.origin}/api/speech/renditions`)},
    data=json.dumps(${json}).encode(),
    headers={"Authorization": "Bearer YOUR-KEY", "Content-Type": "application/json"},
)
print(json.load(urlopen(request))["link"])
`;
}

function Requests({ given, made }: { given: Given; made?: Rendition }) {
  const schema = useQuery({
    queryKey: ["schema", "RenditionOut"],
    queryFn: () => api.schemaOf("RenditionOut"),
    staleTime: Infinity,
  });
  const sample = made && {
    ...made,
    waveform: [...made.waveform.slice(0, 4), "…"],
    words: [...made.words.slice(0, 3), "…"],
  };
  return (
    <>
      <h3>Example requests</h3>
      <Panels>
        <TabList aria-label="Requests">
          <Tab id="curl">curl</Tab>
          <Tab id="python">Python</Tab>
          <Tab id="answer">An answer</Tab>
          <Tab id="schema">Its schema</Tab>
        </TabList>
        <TabPanel id="curl">
          <Copy text={curl(given)} what="curl" />
        </TabPanel>
        <TabPanel id="python">
          <Copy text={python(given)} what="Python" />
        </TabPanel>
        <TabPanel id="answer">
          {sample ? (
            <Code tabIndex={0}>{JSON.stringify(sample, null, 2)}</Code>
          ) : (
            <p>Hear the text once: the answer to that request is shown here.</p>
          )}
        </TabPanel>
        <TabPanel id="schema">
          <Code tabIndex={0}>{JSON.stringify(schema.data ?? {}, null, 2)}</Code>
        </TabPanel>
      </Panels>
    </>
  );
}
