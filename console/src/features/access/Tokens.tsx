/** Tokens: grants, expiry, last use, and actions. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";

import * as client from "../../api/client";
import { tokensQuery } from "../../api/queries";
import type { CreatedToken, TokenInfo } from "../../api/types";
import { count } from "../../format/numbers";
import { Check } from "../../ui/fields";
import { Button, Failure, Faint, Panel, PlainTable, TableFrame, Waiting } from "../../ui/parts";
import { SureButton } from "../../ui/SureButton";
import { CreateToken } from "./CreateToken";
import { Secret } from "./Secret";

const Stack = styled.div`
  display: grid;
  gap: 16px;
  grid-template-columns: minmax(0, 1fr);
`;

const minute = (time: string | null): string => (time === null ? "never" : time.slice(0, 16).replace("T", " "));

export function Tokens() {
  const queries = useQueryClient();
  const { data, error, refetch } = useQuery(tokensQuery);
  const [made, setMade] = useState<CreatedToken | null>(null);
  const [showsRevoked, setShowsRevoked] = useState(false);
  const fresh = () => queries.invalidateQueries();
  const act = useMutation({
    mutationFn: ({ what, token }: { what: (id: string) => Promise<unknown>; token: TokenInfo }) => what(token.id),
    onSuccess: fresh,
  });
  const rotate = useMutation({
    mutationFn: ({ token, overlap }: { token: TokenInfo; overlap: string | null }) =>
      client.rotateToken(token.id, overlap),
    onSuccess: (created) => {
      setMade(created);
      return fresh();
    },
  });
  if (!data) return <Waiting error={error} retry={refetch} />;
  const shown = data.filter((token) => showsRevoked || token.state !== "revoked");
  const failure = act.error ?? rotate.error;
  return (
    <Stack>
      {made && <Secret created={made} close={() => setMade(null)} />}
      {failure && <Failure error={failure} />}
      <Panel aria-label="Tokens">
        {shown.length === 0 ? (
          <p>There is no token yet.</p>
        ) : (
          <TableFrame aria-label="Tokens">
            <PlainTable aria-label="Tokens">
              <thead>
                <tr>
                  <th>token</th>
                  <th>grants</th>
                  <th>state</th>
                  <th>expires (UTC)</th>
                  <th>last used (UTC)</th>
                  <th>from</th>
                  <th className="figure">points</th>
                  <th className="figure">queries</th>
                  <th>actions</th>
                </tr>
              </thead>
              <tbody>
                {shown.map((token) => (
                  <tr key={token.id}>
                    <td title={token.id}>{token.name}</td>
                    <td style={{ whiteSpace: "normal", minWidth: 200 }}>
                      {[...token.grants, ...narrowed(token)].join(", ")}
                    </td>
                    <td>{token.state}</td>
                    <td title={token.expires ?? ""}>{minute(token.expires)}</td>
                    <td title={token.last_used ?? ""}>{minute(token.last_used)}</td>
                    <td>{token.last_address ?? "–"}</td>
                    <td className="figure">{count(token.points)}</td>
                    <td className="figure">{count(token.queries)}</td>
                    <td>
                      {token.state !== "revoked" && (
                        <Actions
                          token={token}
                          act={(what) => act.mutate({ what, token })}
                          rotate={(overlap) => rotate.mutate({ token, overlap })}
                        />
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </PlainTable>
          </TableFrame>
        )}
        {data.some((token) => token.state === "revoked") && (
          <p style={{ marginTop: 8 }}>
            <Check label="Show revoked tokens" isSelected={showsRevoked} onChange={setShowsRevoked} />
          </p>
        )}
      </Panel>
      <p>
        <Faint>A rotated token gets a new secret; the old one works for another day.</Faint>
      </p>
      <CreateToken made={setMade} />
    </Stack>
  );
}

interface ActionsProps {
  token: TokenInfo;
  act: (what: (id: string) => Promise<unknown>) => void;
  rotate: (overlap: string | null) => void;
}

function Actions({ token, act, rotate }: ActionsProps) {
  return (
    <>
      <Button
        $quiet
        $low
        onPress={() => rotate("1d")}
        aria-label={`Rotate ${token.name}; its old secret works for a day`}
      >
        Rotate
      </Button>{" "}
      {token.state === "suspended" ? (
        <Button $quiet $low onPress={() => act(client.resumeToken)} aria-label={`Resume ${token.name}`}>
          Resume
        </Button>
      ) : (
        <Button $quiet $low onPress={() => act(client.suspendToken)} aria-label={`Suspend ${token.name}`}>
          Suspend
        </Button>
      )}{" "}
      <SureButton isLow sure={`Really revoke ${token.name}`} onSure={() => act(client.revokeToken)}>
        Revoke
      </SureButton>
    </>
  );
}

/** What narrows a token. */
function narrowed(token: TokenInfo): string[] {
  const limits = Object.entries(token.limits).map(
    ([name, limit]) => `${name.replaceAll("_", " ")} ${count(limit ?? 0)}`,
  );
  const metrics = token.metrics.length > 0 ? [`metrics ${token.metrics.join(" ")}`] : [];
  const networks = token.networks.length > 0 ? [`from ${token.networks.join(" ")}`] : [];
  return [...metrics, ...networks, ...limits];
}
