//! All JSON documents that commands give, with their schemas.

use serde_json::Value;

use super::{
    advisory, check, copy, find, handoff, help, init, intake, inventory, key, log, look, man,
    parcel, policy, report, rewrite, rounds, serve, shelf, sign, store, survey, why,
};
use crate::output::{Report, schema};

/// One kind of document.
pub struct DocumentKind {
    pub kind: &'static str,
    /// The commands that give it.
    pub commands: &'static str,
    pub schema: fn() -> Value,
}

macro_rules! documents {
    ($($commands:literal: $report:path,)*) => {
        /// In the order of the work.
        pub const ALL: &[DocumentKind] = &[$(DocumentKind {
            kind: <$report as Report>::KIND,
            commands: $commands,
            schema: schema::<$report>,
        }),*];
    };
}

documents! {
    "init": init::InitReport,
    "check": check::CheckReport,
    "check --nodes": handoff::nodes::NodeFilesReport,
    "survey": survey::Survey,
    "survey --missing": survey::SurveyMissing,
    "survey --unused": survey::SurveyUnused,
    "survey --held": survey::held::HeldReport,
    "survey --against": survey::compare::SurveyComparison,
    "look": look::ImageReport,
    "look REF OTHER": look::compare::Comparison,
    "look --companions": look::CompanionsReport,
    "look --signatures": look::signatures::SignaturesReport,
    "look --raw": look::raw::RawReport,
    "look --tags": look::tags::TagsReport,
    "find": find::FindReport,
    "look --upstream": look::proof::PlacesReport,
    "inventory": inventory::InventoryReport,
    "inventory REF OTHER": inventory::changes::InventoryComparison,
    "inventory --fill": inventory::fill::FillReport,
    "inventory --attach": inventory::sbom::SbomAttached,
    "advisory import": advisory::import::ImportReport,
    "advisory list": advisory::list::AdvisoriesReport,
    "advisory show": advisory::show::AdvisoryReport,
    "advisory check": advisory::check::AdvisoryCheck,
    "advisory drop": advisory::drop::FeedDropped,
    "intake add": intake::add::AddReport,
    "intake list": intake::list::IntakeList,
    "intake remove": intake::remove::RemoveReport,
    "intake lock": intake::lock::LockReport,
    "intake lock --check": intake::lock::LockCheck,
    "intake lock --explain": intake::lock::explain::TagsExplained,
    "intake diff": intake::diff::IntakeDiff,
    "intake run": intake::run::RunReport,
    "intake status": intake::status::StatusReport,
    "parcel pack": parcel::pack::PackReport,
    "parcel verify": parcel::verify::ParcelVerification,
    "parcel unpack": parcel::unpack::UnpackReport,
    "parcel receipt": parcel::receipt::ReceiptReport,
    "parcel show": parcel::show::ParcelReport,
    "parcel sign-key": parcel::sign_key::SignKeyReport,
    "copy": copy::CopyReport,
    "copy of several, promote": copy::several::CopiesReport,
    "sign": sign::SigningReport,
    "sign --new-key, sign --show-key": sign::ImageKeyReport,
    "serve": serve::ServeReport,
    "shelf list": shelf::list::ShelvesReport,
    "shelf show": shelf::show::ShelfReport,
    "shelf drop": shelf::drop::DropReport,
    "shelf tidy": shelf::tidy::TidyReport,
    "shelf users": shelf::users::UsersReport,
    "shelf block, shelf unblock": shelf::block::BlockReport,
    "shelf retry": shelf::retry::RetryReport,
    "shelf warm": shelf::warm::WarmReport,
    "store collect": store::collect::CollectReport,
    "store verify": store::verify::VerifyReport,
    "store backup": store::backup::BackupReport,
    "store restore": store::restore::RestoreReport,
    "store move": store::moving::MoveReport,
    "store convert": store::convert::ConvertReport,
    "key issue, key rotate": key::issue::KeyReport,
    "key list": key::list::KeysReport,
    "key rotate --finish": key::rotate::Rotation,
    "key revoke": key::revoke::Revocation,
    "key test": key::test::KeyTest,
    "handoff apply": handoff::apply::ApplyReport,
    "handoff check": handoff::check::HandoffCheck,
    "handoff write": handoff::write::HandoffFiles,
    "handoff read": handoff::read::SecretsReport,
    "handoff move": handoff::move_to::MoveReport,
    "policy explain": policy::explain::PolicyExplanation,
    "policy check": policy::check::PolicyCheck,
    "policy diff": policy::diff::PolicyDiff,
    "policy rehearse": policy::rehearse::PolicyRehearsal,
    "log": log::LogEntry,
    "log --export": log::export::ExportReport,
    "log --verify": log::export::TrailReport,
    "rounds": rounds::RoundsReport,
    "report": report::ReportDocument,
    "rewrite": rewrite::RewriteReport,
    "why": why::show::WhyReport,
    "help cause": help::Causes,
    "help cause NAME": help::CausePage,
    "help json": help::Documents,
    "help configuration": help::configuration::ConfigurationTables,
    "help configuration TABLE": help::configuration::ConfigurationTable,
    "man --into": man::ManReport,
    "--version --verbose": crate::version::VersionReport,
}
