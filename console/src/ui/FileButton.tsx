/** A button that lets a person choose a file: the same one again too, after it was edited. */
import { useState } from "react";
import { FileTrigger } from "react-aria-components";

import { Button } from "./parts";

interface Props {
  label: string;
  busy: string | null;
  endings: readonly string[];
  quiet?: boolean;
  onFile: (file: File) => void;
}

export function FileButton({ label, busy, endings, quiet = false, onFile }: Props) {
  // A browser says nothing of a file that was chosen before, so each choice gets a field of its own.
  const [chosen, setChosen] = useState(0);
  return (
    <FileTrigger
      key={chosen}
      acceptedFileTypes={endings}
      onSelect={(files) => {
        const file = files?.[0];
        if (!file) return;
        setChosen(chosen + 1);
        onFile(file);
      }}
    >
      <Button $quiet={quiet} isDisabled={busy !== null}>
        {busy ?? label}
      </Button>
    </FileTrigger>
  );
}
