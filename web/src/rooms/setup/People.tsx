import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { Person, Role } from "../../api/types";
import { plural } from "../../format";
import { Chips, Marked, RoomLinks, useEverythingChanged, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { RecordLines } from "../../parts/together";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { roleWords } from "../../words";
import { setupLinks } from "./links";

const roles: [Role, string][] = [
  ["clerk", "clerk: does the day's work"],
  ["lead", "supervisor: approves, closes periods"],
  ["auditor", "auditor: reads all, changes nothing"],
  ["administrator", "administrator: people and set-up, no postings"],
];

type Question = "add" | "change" | "password";

/** Who signs in, with which role. */
export function PeopleRoom() {
  const people = useQuery({ queryKey: ["people"], queryFn: () => got(api.GET("/api/people")) });
  const may = useMay();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [current, setCurrent] = useState<Person>();
  const [asking, setAsking] = useState<Question>();
  const rows = people.data ?? [];
  const columns: Column<Person>[] = [
    { key: "name", head: "Name", width: "minmax(0, 1fr)", cell: (row) => <b>{row.name}</b> },
    { key: "sign_in", head: "Signs in as", width: "150px", cell: (row) => row.sign_in },
    { key: "role", head: "Role", width: "120px", cell: (row) => roleWords[row.role] },
    {
      key: "state",
      head: "",
      width: "190px",
      cell: (row) =>
        !row.active ? (
          <Marked className="dim">○ switched off</Marked>
        ) : row.must_change ? (
          <Marked className="heed">▲ new password to choose</Marked>
        ) : row.sessions > 0 ? (
          <Marked className="done">● {plural(row.sessions, "session", "sessions")}</Marked>
        ) : (
          ""
        ),
    },
  ];
  const path = current && { params: { path: { id: current.id } } };
  return (
    <Worktop
      title="People"
      sum={people.data && plural(rows.filter((row) => row.active).length, "person signs in", "people sign in")}
      actions={[
        {
          key: "Enter",
          label: current ? `Change ${current.name}` : "Change",
          run: () => setAsking("change"),
          primary: true,
          disabled: !current,
          shownOnly: true,
          needs: "keep_people",
        },
        { key: "n", label: "New person", run: () => setAsking("add"), needs: "keep_people" },
        {
          key: "w",
          label: "New password",
          run: () => setAsking("password"),
          disabled: !current?.active,
          needs: "keep_people",
        },
      ]}
      tape={
        current && (
          <Paper>
            <h2>
              {current.name}
              <br />
              <span>{roles.find(([role]) => role === current.role)?.[1]}</span>
            </h2>
            <RecordLines kind="person" id={current.id} />
          </Paper>
        )
      }
    >
      <Chips>
        <RoomLinks links={setupLinks} />
      </Chips>
      {people.error && <Wrong error={people.error} />}
      {people.data && (
        <Rows
          label="People"
          rows={rows}
          idOf={(row) => String(row.id)}
          columns={columns}
          onCurrent={setCurrent}
          {...(may("keep_people") && { onOpen: () => setAsking("change") })}
          empty="Nobody signs in yet."
        />
      )}
      {asking === "add" && (
        <FormAsk
          title="Someone new"
          yes="Add"
          close={() => setAsking(undefined)}
          fields={[
            { name: "name", label: "Name" },
            { name: "sign_in", label: "Sign-in name", hint: "small letters, digits, dots, dashes" },
            { name: "role", label: "Role", choices: roles, value: "clerk" },
            {
              name: "password",
              label: "First password",
              kind: "password",
              hint: "12 characters or more; another one is chosen at the first sign-in",
            },
          ]}
          run={async (values, key) => {
            await got(
              api.POST("/api/people", {
                params: { header: keyed(key) },
                body: {
                  name: values.name ?? "",
                  sign_in: values.sign_in ?? "",
                  role: values.role as Role,
                  password: values.password ?? "",
                },
              }),
            );
            say({ kind: "done", text: `${values.name} can sign in now, and chooses a password first.` });
            await changed();
          }}
        />
      )}
      {asking === "change" && current && path && (
        <FormAsk
          title={`Change ${current.name}`}
          yes="Save"
          close={() => setAsking(undefined)}
          fields={[
            { name: "name", label: "Name", value: current.name },
            { name: "role", label: "Role", choices: roles, value: current.role },
            { name: "active", label: "Can sign in", kind: "tick", value: current.active ? "on" : "" },
          ]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/people/{id}", {
                params: { ...path.params, header: keyed(key) },
                body: {
                  version: current.version,
                  name: values.name ?? "",
                  role: values.role as Role,
                  active: values.active === "on",
                },
              }),
            );
            say({ kind: "done", text: `${values.name} is changed.` });
            await changed();
          }}
        >
          Whoever gets another role or is switched off is signed out.
        </FormAsk>
      )}
      {asking === "password" && current && path && (
        <FormAsk
          title={`A new password for ${current.name}`}
          yes="Set password"
          close={() => setAsking(undefined)}
          fields={[{ name: "password", label: "First password", kind: "password", hint: "12 characters or more" }]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/people/{id}/password", {
                params: { ...path.params, header: keyed(key) },
                body: { version: current.version, password: values.password ?? "" },
              }),
            );
            say({ kind: "done", text: `${current.name} is signed out and begins with the new password.` });
            await changed();
          }}
        >
          They are signed out everywhere, and choose another one when they sign in.
        </FormAsk>
      )}
    </Worktop>
  );
}
