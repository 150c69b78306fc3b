//! Everything that can be done, under the word that the journal knows it by.

use super::Role;

/// What an actor must have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Needs {
    /// Everybody may.
    Nothing,
    SignedIn,
    /// On the project, or on the service where it belongs to none.
    Role(Role),
}

macro_rules! actions {
    ($($(#[$doc:meta])* $name:ident $word:literal $needs:expr;)*) => {
        /// Everything that someone may be allowed to do. A route of the service maps to one of these, and the journal names
        /// it.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum Action { $($(#[$doc])* $name,)* }

        impl Action {
            /// Every action, in the order of the table.
            pub const ALL: [Action; [$($word),*].len()] = [$(Action::$name),*];

            /// Its word in the journal. Words never change.
            pub fn word(self) -> &'static str {
                match self { $(Action::$name => $word,)* }
            }

            /// The least role that allows it, and on what: the service or the project it is done to.
            pub fn needs(self) -> Needs {
                match self { $(Action::$name => $needs,)* }
            }
        }
    };
}

const READER: Needs = Needs::Role(Role::Reader);
const OPERATOR: Needs = Needs::Role(Role::Operator);
const EDITOR: Needs = Needs::Role(Role::Editor);
const OWNER: Needs = Needs::Role(Role::Owner);

actions! {
    SignIn "session.begin" Needs::Nothing;
    SignOut "session.end" Needs::Nothing;
    /// What is one's own: who am I, my sessions, my tokens.
    SeeOwn "own.see" Needs::SignedIn;
    MakeLink "link.make" Needs::SignedIn;
    MakeToken "token.make" Needs::SignedIn;
    EndToken "token.end" Needs::SignedIn;
    EndSession "own-session.end" Needs::SignedIn;
    /// What one is told.
    SetNotices "notice.set" Needs::SignedIn;
    /// A sample to oneself.
    SampleNotice "notice.sample" Needs::SignedIn;
    /// By the key in a mail: its person's notices end.
    EndNotices "notice.end" Needs::Nothing;
    /// Lists over all projects that the caller sees.
    SeeLists "lists.see" Needs::SignedIn;
    /// Check and plan a file that is sent along.
    Draft "draft.plan" Needs::SignedIn;
    SeeRun "run.see" READER;
    SeeProject "project.see" READER;
    /// Names of secrets and connections, and settings; never shown to who is not signed in.
    SeeSettings "settings.see" READER;
    StartRun "run.start" OPERATOR;
    RunAgain "run.again" OPERATOR;
    StopRun "run.stop" OPERATOR;
    AllowRun "run.allow" OPERATOR;
    StartJob "job.start" OPERATOR;
    /// Asks for a proposal to land, or changes where it stands in the queue.
    Land "proposal.land" OPERATOR;
    /// Offers a branch, or takes that back, where there is no forge.
    Propose "proposal.offer" OPERATOR;
    /// Agrees with a proposal; whose word counts is said by the rules.
    Approve "approval.give" READER;
    /// Agrees with what a job would put into an environment, or refuses it; whose word counts is said by the rules.
    ApproveDeployment "deployment.approve" OPERATOR;
    AddNote "note.add" OPERATOR;
    SetSecret "secret.set" EDITOR;
    RemoveSecret "secret.remove" EDITOR;
    SetConnection "connection.set" EDITOR;
    RemoveConnection "connection.remove" EDITOR;
    KeepPipeline "pipeline.keep" EDITOR;
    DropCaches "cache.drop" EDITOR;
    PinArtifact "artifact.pin" EDITOR;
    SetProject "project.set" EDITOR;
    /// Lets a job into its environment past the rules; who may is said by them.
    Emergency "deployment.emergency" OPERATOR;
    /// Puts what a run made into one more environment.
    Promote "environment.promote" OPERATOR;
    /// Puts what was in an environment before there again.
    RollBack "environment.roll-back" OPERATOR;
    /// Takes a preview away.
    CloseEnvironment "environment.close" OPERATOR;
    /// Made by a job that has passed.
    MakeRelease "release.make" OPERATOR;
    EditRelease "release.edit" EDITOR;
    PublishRelease "release.publish" EDITOR;
    WithdrawRelease "release.withdraw" EDITOR;
    /// Freezes an environment, or lets it thaw.
    FreezeEnvironment "environment.freeze" EDITOR;
    /// What a project's repository is read with.
    SetRepository "project.repository" EDITOR;
    SeeProjectJournal "project-journal.see" EDITOR;
    /// What its forge sent.
    SeeDeliveries "delivery.see" EDITOR;
    DeliveryAgain "delivery.again" EDITOR;
    /// A new secret for its forge to sign with.
    SetHookSecret "project.hook-secret" EDITOR;
    AddProject "project.add" OWNER;
    RemoveProject "project.remove" OWNER;
    /// Rules that hold besides those of its main branch.
    SetRules "project.rules" OWNER;
    /// Who sees a project.
    SetSeen "project.seen" OWNER;
    InviteRunner "runner.invite" OWNER;
    EnrolRunner "runner.enrol" Needs::Nothing;
    SetRunner "runner.set" OWNER;
    DrainRunner "runner.drain" OWNER;
    RemoveRunner "runner.remove" OWNER;
    SetPool "pool.set" OWNER;
    RemovePool "pool.remove" OWNER;
    RemoveMachine "machine.remove" OWNER;
    /// Keeps a pool's machine for a look.
    KeepMachine "machine.keep" OWNER;
    /// What a machine wrote: it may show more than jobs' logs do.
    SeeConsole "machine.console" OWNER;
    SeeWork "work.see" OWNER;
    WorkAgain "work.again" OWNER;
    SeeStore "store.see" OWNER;
    SweepStore "store.sweep" OWNER;
    SeePersons "person.see" Needs::SignedIn;
    AddPerson "person.add" OWNER;
    SetPerson "person.set" OWNER;
    RemovePerson "person.remove" OWNER;
    AddIdentity "identity.add" OWNER;
    RemoveIdentity "identity.remove" OWNER;
    SetGroup "group.set" OWNER;
    RemoveGroup "group.remove" OWNER;
    SetGrant "grant.set" OWNER;
    RemoveGrant "grant.remove" OWNER;
    /// A sign-in link for someone else.
    LinkFor "person.link" OWNER;
    SeeSessions "session.see" OWNER;
    EndOthersSession "person-session.end" OWNER;
    EndOthersToken "person-token.end" OWNER;
    SeeJournal "journal.see" OWNER;
    /// What came from a forge.
    TakeDelivery "delivery.take" Needs::Nothing;
    /// A rule of the service's own did something.
    ActByRule "rule.act" OWNER;
}

impl Action {
    /// Whoever may do it can come to all rights of a person.
    pub fn gives_rights(self) -> bool {
        matches!(self, Action::MakeToken | Action::MakeLink | Action::LinkFor | Action::AddIdentity)
    }

    /// What a reader may do is never for who is not signed in, however public the project is.
    pub fn is_for_signed_in(self) -> bool {
        matches!(self, Action::SeeSettings | Action::Approve)
    }
}
