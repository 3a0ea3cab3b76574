/** Tokens and the record of changes. */
import { useQuery } from "@tanstack/react-query";
import { TabPanel, Tabs } from "react-aria-components";

import { useMay } from "../../api/caller";
import { sessionQuery } from "../../api/queries";
import type { CallerInfo } from "../../api/types";
import { Leaf, Strip } from "../../ui/Leaves";
import { Faint, Notice, Panel, Title, Waiting } from "../../ui/parts";
import { Changes } from "./Changes";
import { Secrets } from "./Secrets";
import { Tokens } from "./Tokens";

export default function AccessPage() {
  const { data: caller, error, refetch } = useQuery(sessionQuery);
  const may = useMay();
  if (!caller) return <Waiting error={error} retry={refetch} />;
  const isAdmin = may("admin");
  const seesChanges = caller.grants.some((grant) => grant.startsWith("define") || grant.startsWith("admin"));
  return (
    <>
      <Title>Access</Title>
      <Self caller={caller} />
      {caller.is_open && (
        <Notice>
          Callers on the machine of the service need no token. To require one from them too, set{" "}
          <code>loopback = &quot;tokens&quot;</code> under <code>[access]</code> in the configuration.
        </Notice>
      )}
      {(isAdmin || seesChanges) && (
        <Tabs>
          <Strip aria-label="What to list">
            {isAdmin && <Leaf id="tokens">Tokens</Leaf>}
            {isAdmin && <Leaf id="secrets">Secrets</Leaf>}
            {seesChanges && <Leaf id="changes">Changes</Leaf>}
          </Strip>
          {isAdmin && (
            <TabPanel id="tokens">
              <Tokens />
            </TabPanel>
          )}
          {isAdmin && (
            <TabPanel id="secrets">
              <Secrets />
            </TabPanel>
          )}
          {seesChanges && (
            <TabPanel id="changes">
              <Changes />
            </TabPanel>
          )}
        </Tabs>
      )}
    </>
  );
}

function Self({ caller }: { caller: CallerInfo }) {
  const limits = Object.entries(caller.limits).map(([name, limit]) => `${name.replaceAll("_", " ")}: ${limit}`);
  return (
    <Panel aria-label="You">
      You are <strong>{caller.who}</strong>, with {caller.grants.join(", ")}
      {caller.metrics.length > 0 && `, for the metrics ${caller.metrics.join(", ")}`}.{" "}
      <Faint>
        {caller.kind === "machine" ? "No token is needed here." : `The token ${endOf(caller.expires)}.`}
        {limits.length > 0 && ` Limits: ${limits.join("; ")}.`}
        {caller.address !== null && ` Your address is ${caller.address}.`}
      </Faint>
    </Panel>
  );
}

const endOf = (expires: string | null): string =>
  expires === null ? "does not expire" : `expires on ${expires.slice(0, 10)}`;
