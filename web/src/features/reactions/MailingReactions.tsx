import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok } from "../../api/client";
import { ReactionForm } from "./ReactionForm";
import { ReactionList } from "./ReactionList";

/** What follows when people do something with this mailing. */
export function MailingReactions({ mailing, byText = false }: { mailing: number; byText?: boolean }) {
  const [making, setMaking] = useState(false);
  const reactions = useQuery({
    queryKey: ["reactions", mailing],
    queryFn: () => ok(api.GET("/api/reactions", { params: { query: { mailing } } })),
  });
  const all = reactions.data ?? [];
  return (
    <>
      <h2>Reactions</h2>
      {all.length > 0 ? (
        <ReactionList all={all} where />
      ) : (
        <p className="soft" style={{ marginTop: 0 }}>
          Nothing follows when people {byText ? "answer it or leave" : "open it, click, reply or stay silent"}.
        </p>
      )}
      {making ? (
        <ReactionForm mailing={mailing} byText={byText} done={() => setMaking(false)} />
      ) : (
        <p>
          <button className="plain" onClick={() => setMaking(true)}>
            Add a reaction to this mailing
          </button>
        </p>
      )}
    </>
  );
}
