import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import type { ReactNode } from "react";
import { api, got, Problem } from "../api/client";
import type { SessionView } from "../api/types";
import { useAsking } from "../parts/asking";

const Ground = styled("main")({
  minHeight: "100%",
  display: "grid",
  gridTemplateColumns: "minmax(0, 1fr) 400px",
  "& .left": { padding: "64px 8vw", display: "flex", flexDirection: "column", justifyContent: "center" },
  "& .brand": { fontWeight: 700, fontSize: 34, letterSpacing: "-.015em", margin: "0 0 6px" },
  "& .brand i": {
    display: "inline-block",
    width: 17,
    height: 17,
    borderRadius: "50%",
    background: "var(--here)",
    margin: "0 4px 0 2px",
    verticalAlign: 4,
  },
  "& .company": { color: "var(--ink-2)", fontSize: 17 },
  "& .roll": {
    background: "var(--roll)",
    borderLeft: "1px solid var(--line)",
    padding: "0 34px",
    display: "flex",
    flexDirection: "column",
    justifyContent: "center",
    position: "relative",
  },
  "& .roll::before": {
    content: '""',
    position: "absolute",
    left: 0,
    right: 0,
    top: 0,
    height: 8,
    background: "radial-gradient(circle at 6px 0, var(--paper) 4px, transparent 4.6px) 0 0/12px 8px repeat-x",
  },
});

const Form = styled("form")({
  display: "flex",
  flexDirection: "column",
  gap: 16,
  "& h1, & h2": { fontSize: 20, margin: "0 0 2px", letterSpacing: "-.01em" },
  "& p": { margin: 0, color: "var(--ink-2)" },
  "& .wrong": { color: "var(--stop)", fontWeight: 600 },
});

interface Field {
  name: string;
  label: string;
  password?: boolean;
  value?: string;
  hint?: string;
  autoComplete: string;
}

interface FormProps {
  title: string;
  words?: ReactNode;
  fields: Field[];
  yes: string;
  run: (values: Record<string, string>) => Promise<void>;
  trouble?: string | undefined;
}

/** A few fields and one button; what is wrong stands at its field. */
function DoorForm({ title, words, fields, yes, run, trouble }: FormProps) {
  const { send, busy, wrong, elsewhere } = useAsking(
    fields.map((field) => field.name),
    run,
  );
  return (
    <Form onSubmit={send} noValidate>
      <h1>{title}</h1>
      {words && <p>{words}</p>}
      {fields.map((field, position) => (
        <TextField
          key={field.name}
          name={field.name}
          label={field.label}
          type={field.password ? "password" : "text"}
          defaultValue={field.value ?? ""}
          autoFocus={position === (fields[0]?.value ? 1 : 0)}
          error={wrong?.field === field.name}
          helperText={wrong?.field === field.name ? wrong.message : field.hint}
          autoComplete={field.autoComplete}
          slotProps={{ htmlInput: { autoCapitalize: "none", spellCheck: false } }}
        />
      ))}
      {(elsewhere || trouble) && (
        <div className="wrong" role="alert">
          ◆ {elsewhere ?? trouble}
        </div>
      )}
      <Button type="submit" variant="contained" disabled={busy}>
        {busy ? "One moment…" : yes} <kbd>Enter</kbd>
      </Button>
    </Form>
  );
}

function Door({ company, children }: { company: string | undefined; children: ReactNode }) {
  return (
    <Ground>
      <div className="left">
        <div className="brand">
          Glad
          <i />
          Till
        </div>
        <div className="company">{company ?? "From posted shipments to closed orders."}</div>
      </div>
      <div className="roll">{children}</div>
    </Ground>
  );
}

const nameField: Field = { name: "sign_in", label: "Sign-in name", autoComplete: "username" };
const passwordField: Field = {
  name: "password",
  label: "Password",
  password: true,
  autoComplete: "current-password",
};

function signIn(values: Record<string, string>): Promise<SessionView> {
  return got(api.POST("/api/session", { body: { sign_in: values.sign_in ?? "", password: values.password ?? "" } }));
}

interface EnteredProps {
  entered: (view: SessionView) => Promise<void>;
}

/** The first screen for who is not signed in. */
export function SignIn({
  entered,
  company,
  trouble,
}: EnteredProps & { company: string | undefined; trouble?: string }) {
  return (
    <Door company={company}>
      <DoorForm
        title="Sign in"
        fields={[nameField, passwordField]}
        yes="Sign in"
        run={async (values) => entered(await signIn(values))}
        trouble={trouble}
      />
    </Door>
  );
}

const Again = styled("div")({ padding: "20px 24px", width: 400 });

/** The session ended in the middle of the work: the work stays where it is. */
export function SignInAgain({ entered, signIn: name }: EnteredProps & { signIn: string }) {
  return (
    <Dialog open aria-label="Sign in again">
      <Again>
        <DoorForm
          title="Sign in again"
          words="Your session has ended. What you were doing is still here; sign in and go on."
          fields={[{ ...nameField, value: name }, passwordField]}
          yes="Go on"
          run={async (values) => entered(await signIn(values))}
        />
      </Again>
    </Dialog>
  );
}

const newPasswordFields: Field[] = [
  {
    name: "new",
    label: "New password",
    password: true,
    autoComplete: "new-password",
    hint: "12 characters or more; a few words in a row are easy to remember",
  },
  { name: "again", label: "The same again", password: true, autoComplete: "new-password" },
];

function same(values: Record<string, string>): void {
  if (values.new !== values.again) {
    throw new Problem({ title: "The two are not the same. Type the new password twice.", field: "again" });
  }
}

/** Changes the own password; also what someone new does first. */
export function PasswordForm({ title, words, done }: { title: string; words?: string; done: () => Promise<void> }) {
  return (
    <DoorForm
      title={title}
      words={words}
      fields={[
        { name: "old", label: "Present password", password: true, autoComplete: "current-password" },
        ...newPasswordFields,
      ]}
      yes="Change the password"
      run={async (values) => {
        same(values);
        await got(api.PUT("/api/session/password", { body: { old: values.old ?? "", new: values.new ?? "" } }));
        await done();
      }}
    />
  );
}

export function ChoosePassword({ name, done }: { name: string; done: () => Promise<void> }) {
  return (
    <Door company={`Welcome, ${name}.`}>
      <PasswordForm
        title="Choose your own password"
        words="The one you were given was only to begin with."
        done={done}
      />
    </Door>
  );
}

/** Books that nobody has signed in to yet. */
export function FirstStart({ company, done }: { company: string | undefined; done: () => Promise<void> }) {
  const fields: Field[] = [
    {
      name: "code",
      label: "Code",
      autoComplete: "one-time-code",
      hint: "eight digits, printed where Glad Till was started",
    },
    ...(company
      ? []
      : [
          { name: "company", label: "Company", autoComplete: "organization" },
          { name: "currency", label: "Base currency", value: "EUR", autoComplete: "off" },
        ]),
    { name: "name", label: "Your name", autoComplete: "name" },
    nameField,
    { ...passwordField, autoComplete: "new-password", hint: "12 characters or more" },
  ];
  return (
    <Door company={company ?? "New books."}>
      <DoorForm
        title="The first administrator"
        words="Looks after people and set-up, posts nothing. Add everyone else afterwards, under Setup."
        fields={fields}
        yes="Begin"
        run={async (values) => {
          await got(
            api.POST("/api/first-start", {
              body: {
                code: values.code ?? "",
                company: values.company ?? "",
                currency: values.currency ?? "",
                name: values.name ?? "",
                sign_in: values.sign_in ?? "",
                password: values.password ?? "",
              },
            }),
          );
          await done();
        }}
      />
    </Door>
  );
}
