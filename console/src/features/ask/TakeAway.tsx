/** The question as a command, a call or a link, and its answer as a file. */
import { useState } from "react";
import { Menu, MenuItem, MenuTrigger } from "react-aria-components";
import styled from "styled-components";

import { answerAddress, download } from "../../api/client";
import { Menu as Sheet } from "../../ui/Chooser";
import { Button, Failure, Faint } from "../../ui/parts";

const Item = styled(MenuItem)`
  padding: 4px 12px;
  cursor: pointer;
  &[data-focused] {
    background: ${({ theme }) => theme.shallow};
  }
`;

const FILES = [
  { id: "csv", name: "CSV", type: "text/csv" },
  { id: "ndjson", name: "JSON Lines", type: "application/x-ndjson" },
  { id: "json", name: "JSON", type: "application/json" },
  { id: "arrow", name: "Arrow", type: "application/vnd.apache.arrow.stream" },
  { id: "parquet", name: "Parquet", type: "application/vnd.apache.parquet" },
];

const quote = (text: string): string => `'${text.replaceAll("'", `'\\''`)}'`;

/** The texts that somebody may want to take along. */
export function texts(dataset: string, query: string, frame: string, origin: string): Record<string, string> {
  const whole = frame === "" ? query : `${query}\n${frame}`;
  return {
    command: `fenetre ask --url ${origin} --dataset ${dataset} ${quote(whole)}`,
    call: `curl ${quote(`${origin}${answerAddress(dataset, query, frame)}`)}`,
  };
}

export function TakeAway({ dataset, query, frame }: { dataset: string; query: string; frame: string }) {
  const [status, setStatus] = useState("");
  const [error, setError] = useState<unknown>(null);
  const copy = async (what: string) => {
    const known = texts(dataset, query, frame, location.origin);
    const text = what === "link" ? location.href : (known[what] ?? "");
    try {
      await navigator.clipboard.writeText(text);
      setStatus(`The ${what} is on the clipboard.`);
    } catch {
      // Without a secure context there is no clipboard: the text is shown, to be copied by hand.
      setStatus(text);
    }
  };
  const save = async (id: string) => {
    const file = FILES.find((one) => one.id === id);
    if (file === undefined) return;
    setError(null);
    try {
      const blob = await download(dataset, query, frame, file.type);
      const link = document.createElement("a");
      link.href = URL.createObjectURL(blob);
      link.download = `${dataset}.${file.id}`;
      link.click();
      URL.revokeObjectURL(link.href);
      setStatus(`${file.name}: ${link.download}`);
    } catch (failure) {
      setError(failure);
    }
  };
  return (
    <>
      <MenuTrigger>
        <Button $quiet>Copy as ▾</Button>
        <Sheet>
          <Menu onAction={(key) => void copy(String(key))}>
            <Item id="command">command line</Item>
            <Item id="call">HTTP call</Item>
            <Item id="link">link</Item>
          </Menu>
        </Sheet>
      </MenuTrigger>
      <MenuTrigger>
        <Button $quiet>Download ▾</Button>
        <Sheet>
          <Menu onAction={(key) => void save(String(key))}>
            {FILES.map(({ id, name }) => (
              <Item key={id} id={id}>
                {name}
              </Item>
            ))}
          </Menu>
        </Sheet>
      </MenuTrigger>
      <Faint role="status">{status}</Faint>
      {error !== null && <Failure error={error} />}
    </>
  );
}
