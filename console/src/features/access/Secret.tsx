/** A secret, shown once. */
import { useState } from "react";

import type { CreatedToken } from "../../api/types";
import { Button, Command, Notice } from "../../ui/parts";

export function Secret({ created, close }: { created: CreatedToken; close: () => void }) {
  const [isCopied, setCopied] = useState(false);
  return (
    <Notice>
      <strong>The secret of {created.token.name} is shown only now.</strong>
      <Command aria-label="Secret">{created.secret}</Command>
      {created.notes.map((note) => (
        <p key={note}>{note}</p>
      ))}
      <p style={{ marginTop: 8 }}>
        <Button $quiet onPress={() => void navigator.clipboard.writeText(created.secret).then(() => setCopied(true))}>
          {isCopied ? "Copied" : "Copy"}
        </Button>{" "}
        <Button $quiet onPress={close}>
          I have stored it
        </Button>
      </p>
    </Notice>
  );
}
