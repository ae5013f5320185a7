import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, NavLink, useNavigate, useParams } from "react-router";
import styled from "styled-components";
import { api, Problem, type Checked } from "../api";
import { bytes, timeOf } from "../format";
import { Button, ErrorNote, Mark, Row, Sheet, Text } from "../parts/sheet";
import { useSound } from "../parts/sound";
import { colour, font } from "../theme";
import { Bench } from "./bench";
import { Editor } from "./editor";
import { useEdit } from "./edits";
import { Proof } from "./proof";

const Desk = styled.main`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 25rem;
  grid-template-rows: auto minmax(0, 1fr) auto;
  min-height: 0;
  height: 100%;
  background: ${colour.sheet};
  > header {
    grid-column: 1 / -1;
    padding: 0.9rem 1.2rem 0.5rem;
    border-bottom: 1px solid ${colour.rule};
  }
  a {
    color: ${colour.ink};
    text-underline-offset: 3px;
  }
  nav a[aria-current="page"] {
    font-weight: 600;
    text-decoration: none;
  }
  h2 {
    margin: 0;
    font: 600 1.45rem/1.2 ${font.book};
  }
  > aside {
    grid-row: 2 / 4;
    grid-column: 2;
    overflow-y: auto;
    padding: 0.8rem 1.1rem 3rem;
    border-left: 1px solid ${colour.rule};
  }
  @media (max-width: 1080px) {
    display: block;
    overflow-y: auto;
    > div {
      height: 26rem;
    }
  }
`;

const FileTabs = styled.nav`
  display: flex;
  flex-wrap: wrap;
  gap: 0.1rem 1rem;
  margin-top: 0.4rem;
  button {
    background: none;
    border: 0;
    border-bottom: 3px solid transparent;
    padding: 0.15rem 0;
    cursor: pointer;
  }
  button[aria-pressed="true"] {
    border-bottom-color: ${colour.buoy};
    font-weight: 600;
  }
`;

const Found = styled.ul`
  margin: 0;
  padding: 0.5rem 1.2rem 0.7rem 2.2rem;
  max-height: 9.5rem;
  overflow-y: auto;
  border-top: 1px solid ${colour.rule};
  font-size: 0.87rem;
  li[data-kind="error"] {
    color: ${colour.buoy};
  }
  li[data-kind="warning"] {
    color: ${colour.brass};
  }
  li[data-kind="none"] {
    color: ${colour.kelp};
    list-style: none;
  }
`;

const nothing: Checked = { errors: [], warnings: [] };

/** The assistants, and one of them: its files, what is wrong in them, and a bench to try it. */
export function Assistants() {
  const { assistant = "" } = useParams();
  const all = useQuery({ queryKey: ["assistants"], queryFn: api.assistants });
  if (all.isPending) return null;
  if (all.error)
    return <Sheet role="alert">The assistants cannot be read: {all.error.message}</Sheet>;
  const chosen = all.data.find((each) => each.name === assistant) ?? all.data[0];
  if (assistant === "-new")
    return (
      <Sheet>
        <h2>A new assistant</h2>
        <NewAssistant />
      </Sheet>
    );
  if (!chosen)
    return (
      <Sheet>
        <h2>Assistants</h2>
        <p>There are none yet.</p>
        <NewAssistant />
      </Sheet>
    );
  return (
    <One
      key={chosen.name}
      name={chosen.name}
      others={all.data.map((each) => each.name)}
      same={chosen.draft === chosen.live}
    />
  );
}

/** A small assistant that works, to begin with. */
function NewAssistant() {
  const [name, setName] = useState("");
  const queries = useQueryClient();
  const go = useNavigate();
  const making = useMutation({
    mutationFn: async () => api.putDraft(name, (await api.starter(name)).files, ""),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["assistants"] });
      void go(`/assistants/${name}`);
    },
  });
  return (
    <>
      <p>
        It begins with two routes, a page of questions, and words to put your own in their place.
      </p>
      <Row>
        <Text label="Name" value={name} onChange={setName} placeholder="front-desk" />
        <Button onPress={() => making.mutate()} isDisabled={!name || making.isPending}>
          Make it
        </Button>
      </Row>
      {making.error && <ErrorNote role="alert">{making.error.message}</ErrorNote>}
    </>
  );
}

function One({ name, others, same }: { name: string; others: string[]; same: boolean }) {
  const { files, base, changed, generation, error, write, settle } = useEdit(name);
  const [file, setFile] = useState("assistant.yaml");
  const [found, setFound] = useState<Checked>(nothing);
  const queries = useQueryClient();
  useEffect(() => {
    if (!files) return;
    const soon = setTimeout(
      () => void api.checkFiles(files).then(setFound, () => setFound(nothing)),
      400,
    );
    return () => clearTimeout(soon);
  }, [files]);
  const after = () => {
    void queries.invalidateQueries({ queryKey: ["assistants"] });
    void queries.invalidateQueries({ queryKey: ["revisions", name] });
  };
  const put = async (over: string) => {
    const given = files ?? {};
    const kept = await api.putDraft(name, given, over);
    settle({ files: given, revision: kept.draft ?? "" });
    return kept;
  };
  const keep = useMutation({ mutationFn: put, onSuccess: after });
  const publish = useMutation({
    mutationFn: async ({ revision = "", force = false }: { revision?: string; force?: boolean }) =>
      api.publish(name, revision || ((await put(base)).draft ?? ""), force),
    onSuccess: after,
  });
  if (!files) return error ? <Sheet role="alert">{error.message}</Sheet> : null;
  const problem = keep.error ?? publish.error;
  const heldBack = publish.error !== null && /was not published/.test(publish.error.message);
  const overtaken = problem instanceof Problem && problem.status === 409 && !heldBack;
  const giveUp = () => {
    keep.reset();
    publish.reset();
    settle();
  };
  const wrong = found.errors.length > 0;
  return (
    <Desk>
      <header>
        <Row>
          <h2>{name}</h2>
          <Mark $kind={same ? "good" : "plain"}>
            {same ? "the draft is live" : "the draft is not live"}
          </Mark>
          {changed && <Mark $kind="bad">changed here, not kept yet</Mark>}
          <Button onPress={() => keep.mutate(base)} isDisabled={wrong || keep.isPending}>
            Save draft
          </Button>
          <Button onPress={() => publish.mutate({})} isDisabled={wrong || publish.isPending}>
            Publish
          </Button>
          {others.length > 0 && (
            <nav aria-label="Assistants">
              {others.map((other) => (
                <NavLink key={other} to={`/assistants/${other}`} style={{ marginRight: "0.8rem" }}>
                  {other}
                </NavLink>
              ))}
              <NavLink to="/assistants/-new">New assistant</NavLink>
            </nav>
          )}
        </Row>
        {problem && <ErrorNote role="alert">{problem.message}</ErrorNote>}
        {heldBack && (
          <Row>
            <Button onPress={() => publish.mutate({ ...publish.variables, force: true })}>
              Publish it all the same
            </Button>
          </Row>
        )}
        {overtaken && (
          <Row>
            <Button onPress={giveUp}>Take the other draft, and give up what is written here</Button>
            <Button onPress={() => keep.mutate("")}>Write over the other draft</Button>
          </Row>
        )}
        <FileTabs aria-label="Files">
          {Object.keys(files)
            .sort()
            .map((each) => (
              <button
                key={each}
                type="button"
                aria-pressed={each === file}
                onClick={() => setFile(each)}
              >
                {each}
              </button>
            ))}
        </FileTabs>
      </header>
      <div style={{ minHeight: 0 }}>
        {isPicture(file) ? (
          <div style={{ padding: "1.5rem 1.2rem" }}>
            <img alt={file} src={pictureAddress(file, files[file] ?? "")} />
          </div>
        ) : isSound(file) ? (
          <SoundFile file={file} text={files[file] ?? ""} />
        ) : (
          <Editor
            key={`${file} ${generation}`}
            file={file}
            text={files[file] ?? ""}
            onChange={(text) => write(file, text)}
            errors={found.errors}
            warnings={found.warnings}
          />
        )}
      </div>
      <Found aria-label="Findings" aria-live="polite">
        {found.errors.map((each, place) => (
          <li key={place} data-kind="error">
            {each.file}:{each.line}:{each.column}: {each.what} {each.remedy && `(${each.remedy})`}
          </li>
        ))}
        {found.warnings.map((each, place) => (
          <li key={`t${place}`} data-kind="warning">
            {each.file}:{each.line}: {each.what} {each.remedy && `(${each.remedy})`}
          </li>
        ))}
        {found.errors.length + found.warnings.length === 0 && (
          <li data-kind="none">No errors or warnings.</li>
        )}
      </Found>
      <aside>
        <h3 style={{ marginTop: 0 }}>Try it</h3>
        <Bench name={name} files={files} />
        <Proof name={name} files={files} />
        <Revisions name={name} onPublish={(revision) => publish.mutate({ revision })} />
      </aside>
    </Desk>
  );
}

const pictureAddress = (file: string, text: string) =>
  `data:image/${file.toLowerCase().split(".").pop()?.replace("jpg", "jpeg")};base64,${text}`;

const isPicture = (file: string) => /\.(png|jpe?g|gif|webp)$/i.test(file);

const isSound = (file: string) => /\.(ogg|oga|opus|webm|mp3|m4a|amr|wav|flac)$/i.test(file);

/** A sound of the folder: it is played, and changed by putting the folder anew. */
function SoundFile({ file, text }: { file: string; text: string }) {
  const { blob, address } = useSound(text);
  return (
    <div style={{ padding: "1.5rem 1.2rem" }}>
      <audio controls src={address} aria-label={file} />
      <p>
        {file}, {bytes(blob.size)}. To put another sound here, put the folder: fond-echo assistant
        put FOLDER
      </p>
    </div>
  );
}

function Revisions({ name, onPublish }: { name: string; onPublish: (revision: string) => void }) {
  const all = useQuery({ queryKey: ["revisions", name], queryFn: () => api.revisions(name) });
  if (!all.data || all.data.length < 2) return null;
  return (
    <section aria-label="Revisions">
      <h3>Revisions</h3>
      <ul style={{ listStyle: "none", padding: 0 }}>
        {all.data.slice(0, 12).map((each) => (
          <li key={each.digest} style={{ padding: "0.25rem 0" }}>
            <code>{each.digest.slice(0, 10)}</code> {timeOf(each.created_at)}{" "}
            {each.live ? (
              <b>live</b>
            ) : (
              <Button
                onPress={() => onPublish(each.digest)}
                aria-label={`Make ${each.digest.slice(0, 10)} live`}
              >
                Make live
              </Button>
            )}
          </li>
        ))}
      </ul>
      <Link to="/conversations">What people say to it is listed under Conversations.</Link>
    </section>
  );
}
