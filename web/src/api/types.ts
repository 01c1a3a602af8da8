import type { components } from "./schema";

type Schemas = components["schemas"];

export type AccountSheet = Schemas["AccountSheet"];
export type Blocker = Schemas["Blocker"];
export type Change = Schemas["Change"];
export type CustomerRow = Schemas["CustomerRow"];
export type CustomerView = Schemas["CustomerView"];
export type DayItem = Schemas["DayItem"];
export type AdvanceForm = Schemas["AdvanceForm"];
export type AdvanceLineView = Schemas["AdvanceLineView"];
export type AdvancePlan = Schemas["AdvancePlan"];
export type AskAs = Schemas["AskAs"];
export type CreditLine = Schemas["CreditLine"];
export type MadeLinkView = Schemas["MadeLinkView"];
export type DepositOffer = Schemas["DepositOffer"];
export type DepositRow = Schemas["DepositRow"];
export type DepositView = Schemas["DepositView"];
export type DocumentRef = Schemas["DocumentRef"];
export type Entry = Schemas["Entry"];
export type EntryLine = Schemas["EntryLine"];
export type Figure = Schemas["Figure"];
export type Found = Schemas["Found"];
export type InvoiceLine = Schemas["InvoiceLine"];
export type InvoicePreview = Schemas["InvoicePreview"];
export type InvoiceRow = Schemas["InvoiceRow"];
export type InvoiceDocument = Schemas["InvoiceDocument"];
export type InvoiceView = Schemas["InvoiceView"];
export type PaymentMethod = Schemas["PaymentMethod"];
export type BackPreview = Schemas["BackPreview"];
export type MoneyPreview = Schemas["MoneyPreview"];
export type OpenItem = Schemas["OpenItem"];
export type OrderRow = Schemas["OrderRow"];
export type OrderView = Schemas["OrderView"];
export type PostedEntry = Schemas["PostedEntry"];
export type ReceiptRow = Schemas["ReceiptRow"];
export type ReceiptView = Schemas["ReceiptView"];
export type ShipmentRow = Schemas["ShipmentRow"];
export type ShipmentView = Schemas["ShipmentView"];
export type Spine = Schemas["Spine"];
export type Tape = Schemas["Tape"];
type LooseToBill = Schemas["ToBill"];
/** What to bill, with every list there. */
export type ToBill = LooseToBill & Required<Pick<LooseToBill, "picks" | "order_picks" | "added">>;
export type AddedLine = Schemas["AddedLine"];
export type CancelPreview = Schemas["CancelPreview"];
export type CreditMemoRow = Schemas["CreditMemoRow"];
export type DeliveryRow = Schemas["DeliveryRow"];
export type GridAnswer = Schemas["GridAnswer"];
export type MailSetup = Schemas["MailSetup"];
export type MessageView = Schemas["MessageView"];
export type Recipe = Schemas["Recipe"];
export type RunForm = Schemas["RunForm"];
export type RunInvoice = Schemas["RunInvoice"];
export type RunRow = Schemas["RunRow"];
export type RunView = Schemas["ShownRun"];
export type SavedView = Schemas["SavedView"];
export type Track = Schemas["Track"];
export type Trail = Schemas["Trail"];
export type UnbilledCustomer = Schemas["UnbilledCustomer"];
export type UnbilledShipment = Schemas["UnbilledShipment"];
export type Verification = Schemas["Verification"];
export type ApprovalView = Schemas["ApprovalView"];
export type Clash = Schemas["Clash"];
export type DocumentKind = Schemas["DocumentKind"];
export type Limit = Schemas["Limit"];
export type MergeView = Schemas["MergeView"];
export type NumberRange = Schemas["NumberRange"];
export type Operation = Schemas["Operation"];
export type Outcome = Schemas["Outcome"];
export type PeriodRow = Schemas["PeriodRow"];
export type Person = Schemas["Person"];
export type RecordRow = Schemas["Row"];
export type Role = Schemas["Role"];
export type SessionView = Schemas["SessionView"];
export type SetupView = Schemas["SetupView"];
export type SignedIn = Schemas["SignedIn"];
export type CallOffView = Schemas["CallOffView"];
export type Contact = Schemas["Contact"];
export type CustomerFile = Schemas["CustomerFile"];
export type CustomerForm = Schemas["CustomerForm"];
export type Effect = Schemas["Effect"];
export type GoodsSettings = Schemas["GoodsSettings"];
export type ChartAccount = Schemas["ChartAccount"];
export type MapRow = Schemas["MapRow"];
export type ImportView = Schemas["ImportView"];
export type ItemForm = Schemas["ItemForm"];
export type ItemRow = Schemas["ItemRow"];
export type ItemView = Schemas["ItemView"];
export type LineForm = Schemas["LineForm"];
export type Marks = Schemas["Marks"];
export type OpenLine = Schemas["OpenLine"];
export type OrderForm = Schemas["OrderForm"];
export type OrderLineView = Schemas["OrderLineView"];
export type OrderPreview = Schemas["OrderPreview"];
export type OwnField = Schemas["OwnField"];
export type PricedLine = Schemas["PricedLine"];
export type PriceStep = Schemas["PriceStep"];
export type Prices = Schemas["Prices"];
export type QuoteRow = Schemas["QuoteRow"];
export type QuoteView = Schemas["QuoteView"];
export type ReportingList = Schemas["ReportingList"];
export type ShipTo = Schemas["ShipTo"];
export type ShippedAndBilled = Schemas["ShippedAndBilled"];
export type Terms = Schemas["Terms"];

/** What to bill, as it comes over the wire, with every list there. */
export function whole(toBill: LooseToBill | null | undefined): ToBill {
  return {
    ...toBill,
    picks: toBill?.picks ?? [],
    order_picks: toBill?.order_picks ?? [],
    added: toBill?.added ?? [],
  };
}

export type PrepaymentRow = Schemas["PrepaymentRow"];
export type PaymentRequestRow = Schemas["PaymentRequestRow"];
export type PaymentRequestView = Schemas["PaymentRequestView"];
export type CapturePreview = Schemas["CapturePreview"];
export type CaptureView = Schemas["CaptureView"];
export type CardAsked = Schemas["CardAsked"];
export type CardRow = Schemas["CardRow"];
export type CardState = Schemas["CardState"];
export type CardView = Schemas["CardView"];
export type PayoutRow = Schemas["PayoutRow"];
export type PayoutView = Schemas["PayoutView"];
export type ReturnView = Schemas["ReturnView"];
export type Hanging = Schemas["Hanging"];
export type ReturnRow = Schemas["ReturnRow"];
export type ReturnLineView = Schemas["ReturnLineView"];
export type ReturnSettings = Schemas["ReturnSettings"];
export type ReturnableRow = Schemas["ReturnableRow"];
export type StepPreview = Schemas["StepPreview"];
export type WaitingRow = Schemas["WaitingRow"];
export type LeftToCredit = Schemas["LeftToCredit"];
export type CardReturnView = Schemas["CardReturnView"];
export type ReturnReport = Schemas["ReturnReport"];
