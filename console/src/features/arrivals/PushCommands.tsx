/** Ready commands for programs that push, with this store's address in them. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { sessionQuery } from "../../api/queries";

import { Command, Faint, Heading, Panel } from "../../ui/parts";

export function PushCommands({ dataset }: { dataset: string }) {
  const { data: caller } = useQuery(sessionQuery);
  // If this call needs a token, every other call does, too.
  const curl = caller?.kind === "machine" ? "curl" : `curl -H "Authorization: Bearer $FENETRE_TOKEN"`;
  const here = window.location.origin;
  const points = `${here}/api/v1/datasets/${dataset}/points`;
  const [opened] = useState(() => new Date());
  const now = opened.toISOString().replace(/\.\d+Z$/, "Z");
  const seconds = Math.floor(opened.getTime() / 1000);
  const commands = [
    {
      name: "JSON",
      note: "One object or an array. If the time is omitted, the time of arrival is used.",
      text: `${curl} -H 'Content-Type: application/json' -d '{"metric": "level", "tags": {"lock": "osier", "side": "up"}, "time": "${now}", "value": 312.5}' \\\n  ${points}`,
    },
    {
      name: "A table",
      note: "Parameters or a mapping describe the columns.",
      text: `printf 'time,lock,level\\n${now},osier,312.5\\n' | ${curl} -H 'Content-Type: text/csv' --data-binary @- \\\n  '${points}?tag=lock&value=level'`,
    },
    {
      name: "SenML",
      note: "RFC 8428, in JSON or CBOR, with units and states.",
      text: `${curl} -H 'Content-Type: application/senml+json' -d '[{"bn": "osier:", "n": "level", "u": "cm", "v": 312.5}]' \\\n  ${points}`,
    },
    {
      name: "OpenMetrics",
      note: "As services expose it. Types, units and help texts go to the Catalogue.",
      text: `printf '# TYPE boats counter\\nboats_total{lock="osier"} 17 ${seconds}\\n# EOF\\n' | ${curl} -H 'Content-Type: application/openmetrics-text' --data-binary @- \\\n  ${points}`,
    },
    {
      name: "OTLP",
      note: "Any exporter of OTLP metrics over HTTP; it adds /v1/metrics to the endpoint.",
      text: `${caller?.kind === "machine" ? "" : `OTEL_EXPORTER_OTLP_HEADERS="Authorization=Bearer $FENETRE_TOKEN" `}OTEL_EXPORTER_OTLP_METRICS_PROTOCOL=http/protobuf OTEL_EXPORTER_OTLP_ENDPOINT=${here}/api/v1/datasets/${dataset}/otlp`,
    },
  ];
  return (
    <Panel style={{ display: "grid", gap: 16, gridTemplateColumns: "minmax(0, 1fr)" }}>
      {commands.map(({ name, note, text }) => (
        <div key={name}>
          <Heading>{name}</Heading>
          <Faint>{note}</Faint>
          <Command>{text}</Command>
        </div>
      ))}
    </Panel>
  );
}
