import { useQuery, useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useState } from "react";
import { api, got, SIGNED_OUT, setCsrf } from "../api/client";
import type { Operation, SessionView, SignedIn } from "../api/types";
import { ChoosePassword, FirstStart, SignIn, SignInAgain } from "./doors";

interface SessionContextValue {
  person: SignedIn;
  signOut: (everywhere: boolean) => Promise<void>;
}

const SessionContext = createContext<SessionContextValue | undefined>(undefined);

/** Lets in who is signed in; everyone else stands before a door. */
export function SessionGate({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const session = useQuery({
    queryKey: ["session"],
    queryFn: () => got(api.GET("/api/session")),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const [lost, setLost] = useState(false);
  useEffect(() => {
    const out = () => setLost(true);
    window.addEventListener(SIGNED_OUT, out);
    return () => window.removeEventListener(SIGNED_OUT, out);
  }, []);
  const person = session.data?.person ?? undefined;
  // Before anything is asked: the first change must carry the token.
  if (person) {
    setCsrf(person.csrf);
  }
  const entered = useCallback(
    async (view: SessionView) => {
      const before = queries.getQueryData<SessionView>(["session"])?.person?.id;
      if (view.person) {
        setCsrf(view.person.csrf);
      }
      // What someone else saw is not shown to the next.
      if (before !== undefined && before !== view.person?.id) {
        queries.clear();
      }
      queries.setQueryData(["session"], view);
      setLost(false);
      await queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "session" });
    },
    [queries],
  );
  const again = useCallback(async () => {
    await session.refetch();
  }, [session.refetch]);
  const signOut = useCallback(
    async (everywhere: boolean) => {
      await got(api.DELETE("/api/session", { params: { query: { everywhere } } }));
      setCsrf("");
      queries.clear();
      // What was typed and not saved is not for whoever sits down here next.
      sessionStorage.clear();
      window.location.assign("/");
    },
    [queries],
  );
  const value = useMemo(() => (person ? { person, signOut } : undefined), [person, signOut]);
  if (session.error) {
    return <SignIn entered={entered} company={undefined} trouble={session.error.message} />;
  }
  if (!session.data) {
    return null;
  }
  if (session.data.first_start) {
    return <FirstStart company={session.data.company ?? undefined} done={again} />;
  }
  if (!value) {
    return <SignIn entered={entered} company={session.data.company ?? undefined} />;
  }
  if (value.person.must_change) {
    return <ChoosePassword name={value.person.name} done={again} />;
  }
  return (
    <SessionContext.Provider value={value}>
      {children}
      {lost && <SignInAgain entered={entered} signIn={value.person.sign_in} />}
    </SessionContext.Provider>
  );
}

/** Who is signed in. */
export function useSession(): SessionContextValue {
  const session = useContext(SessionContext);
  if (!session) {
    throw new Error("useSession outside SessionGate");
  }
  return session;
}

/** Whether the person may do something, or ask for it. The server decides again, whatever is shown. */
export function useMay(): (operation: Operation) => boolean {
  const session = useContext(SessionContext);
  return useCallback((operation) => session?.person.may.includes(operation) ?? false, [session]);
}

/** For tests: someone is signed in. */
export function SignedInAs({ person, children }: { person: SignedIn; children: ReactNode }) {
  const value = useMemo(() => ({ person, signOut: async () => undefined }), [person]);
  return <SessionContext.Provider value={value}>{children}</SessionContext.Provider>;
}
