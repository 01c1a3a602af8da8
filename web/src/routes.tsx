import { lazy, Suspense } from "react";
import type { RouteObject } from "react-router";
import { AccountRoom } from "./rooms/Account";
import { ApprovalRoom } from "./rooms/Approval";
import { BankRoom } from "./rooms/bank/Bank";
import { StatementRoom } from "./rooms/bank/Statement";
import { CreditMemoRoom } from "./rooms/CreditMemo";
import { CreditMemosRoom } from "./rooms/CreditMemos";
import { CustomerRoom } from "./rooms/Customer";
import { CardRoom } from "./rooms/cards/Card";
import { CardsRoom } from "./rooms/cards/Cards";
import { PayoutRoom, PayoutsRoom } from "./rooms/cards/Payouts";
import { CustomersRoom } from "./rooms/customers/Customers";
import { CustomerFileRoom, NewCustomerRoom } from "./rooms/customers/File";
import { DaySheetRoom } from "./rooms/DaySheet";
import { DirectRoom } from "./rooms/Direct";
import { DepositRoom } from "./rooms/deposits/Deposit";
import { DepositsRoom } from "./rooms/deposits/Deposits";
import { NewDepositRoom } from "./rooms/deposits/NewDeposit";
import { DisputesRoom } from "./rooms/disputes/Disputes";
import { EntryRoom } from "./rooms/Entry";
import { GoingOutRoom } from "./rooms/goingout/GoingOut";
import { MessageRoom } from "./rooms/goingout/Message";
import { PrintRoom } from "./rooms/goingout/Print";
import { InvoiceRoom } from "./rooms/Invoice";
import { InvoicesRoom } from "./rooms/Invoices";
import { CreditRoom } from "./rooms/invoice/Credit";
import { CreditAloneRoom } from "./rooms/invoice/CreditAlone";
import { ItemRoom, NewItemRoom } from "./rooms/items/Item";
import { ItemsRoom } from "./rooms/items/Items";
import { PricesRoom } from "./rooms/items/Prices";
import { JournalRoom } from "./rooms/Journal";
import { MeRoom } from "./rooms/Me";
import { NewReceiptRoom } from "./rooms/NewReceipt";
import { OpenItemsRoom } from "./rooms/OpenItems";
import { OrderRoom } from "./rooms/Order";
import { OrdersRoom } from "./rooms/Orders";
import { CallOffsRoom, NewCallOffRoom } from "./rooms/order/CallOffs";
import { ChangeOrderRoom, ChangeQuoteRoom, NewOrderRoom } from "./rooms/order/Entry";
import { FileRoom, FilesRoom } from "./rooms/order/Files";
import { OpenLinesRoom } from "./rooms/order/OpenLines";
import { QuoteRoom, QuotesRoom } from "./rooms/order/Quotes";
import { ToFinishRoom } from "./rooms/order/ToFinish";
import { AdvanceRoom } from "./rooms/prepayments/Advance";
import { PrepaymentInvoicesRoom } from "./rooms/prepayments/Register";
import { PaymentRequestRoom } from "./rooms/prepayments/Request";
import { ReceiptRoom } from "./rooms/Receipt";
import { ReceiptsRoom } from "./rooms/Receipts";
import { AdviceRoom } from "./rooms/receipt/Advice";
import { AtOnceRoom } from "./rooms/returns/AtOnce";
import { ClaimsRoom } from "./rooms/returns/Claims";
import { ExpectedRoom } from "./rooms/returns/Expected";
import { NewReturnRoom } from "./rooms/returns/NewReturn";
import { ReturnRoom } from "./rooms/returns/Return";
import { ReturnsRoom } from "./rooms/returns/Returns";
import { WaitingRoom } from "./rooms/returns/Waiting";
import { WrongItemRoom } from "./rooms/returns/WrongItem";
import { RunRoom } from "./rooms/runs/Run";
import { RunsRoom } from "./rooms/runs/Runs";
import { ShipmentRoom } from "./rooms/Shipment";
import { ShipmentsRoom } from "./rooms/Shipments";
import { AccountsRoom } from "./rooms/setup/Accounts";
import { CompanyRoom } from "./rooms/setup/Company";
import { FieldsRoom } from "./rooms/setup/Fields";
import { GoodsRoom } from "./rooms/setup/Goods";
import { LimitsRoom } from "./rooms/setup/Limits";
import { MailRoom } from "./rooms/setup/Mail";
import { MoneySetupRoom } from "./rooms/setup/Money";
import { NumbersRoom } from "./rooms/setup/Numbers";
import { OpeningRoom } from "./rooms/setup/Opening";
import { PeopleRoom } from "./rooms/setup/People";
import { PeriodsRoom } from "./rooms/setup/Periods";
import { RecordRoom } from "./rooms/setup/Record";
import { ReturnsSetupRoom } from "./rooms/setup/Returns";
import { NewSlipRoom } from "./rooms/slips/NewSlip";
import { SlipRoom } from "./rooms/slips/Slip";
import { SlipsRoom } from "./rooms/slips/Slips";
import { TrialBalanceRoom } from "./rooms/TrialBalance";
import { UnbilledRoom } from "./rooms/Unbilled";
import { LostWay } from "./shell/LostWay";
import { Shell } from "./shell/Shell";

const WhyRoom = lazy(async () => ({ default: (await import("./rooms/returns/Why")).WhyRoom }));

/** Where every room and document lives. */
export const routes: RouteObject[] = [
  {
    path: "/",
    element: <Shell />,
    children: [
      { index: true, element: <DaySheetRoom /> },
      { path: "orders", element: <OrdersRoom /> },
      { path: "orders/new", element: <NewOrderRoom /> },
      { path: "orders/lines", element: <OpenLinesRoom /> },
      { path: "orders/quotes", element: <QuotesRoom /> },
      { path: "orders/call-offs", element: <CallOffsRoom /> },
      { path: "orders/call-offs/new", element: <NewCallOffRoom /> },
      { path: "orders/files", element: <FilesRoom /> },
      { path: "orders/files/:id", element: <FileRoom /> },
      { path: "orders/:id", element: <OrderRoom /> },
      { path: "orders/:id/change", element: <ChangeOrderRoom /> },
      { path: "orders/:id/advance", element: <AdvanceRoom /> },
      { path: "quotes/new", element: <NewOrderRoom quote /> },
      { path: "quotes/:id", element: <QuoteRoom /> },
      { path: "quotes/:id/change", element: <ChangeQuoteRoom /> },
      { path: "shipments", element: <ShipmentsRoom /> },
      { path: "shipments/:id", element: <ShipmentRoom /> },
      { path: "billing", element: <UnbilledRoom /> },
      { path: "billing/invoices", element: <InvoicesRoom /> },
      { path: "billing/credit-memos", element: <CreditMemosRoom /> },
      { path: "billing/runs", element: <RunsRoom /> },
      { path: "billing/direct", element: <DirectRoom /> },
      { path: "billing/going-out", element: <GoingOutRoom /> },
      { path: "billing/going-out/print", element: <PrintRoom /> },
      { path: "going-out/:id", element: <MessageRoom /> },
      { path: "runs/:id", element: <RunRoom /> },
      { path: "credit-memos/new", element: <CreditAloneRoom /> },
      { path: "credit-memos/:id", element: <CreditMemoRoom /> },
      { path: "invoices/:id", element: <InvoiceRoom /> },
      { path: "invoices/:id/credit", element: <CreditRoom /> },
      { path: "invoices/:id/exchange", element: <AtOnceRoom /> },
      { path: "invoices/:id/wrong-item", element: <WrongItemRoom /> },
      { path: "prepayments", element: <DepositsRoom /> },
      { path: "prepayments/new", element: <NewDepositRoom /> },
      { path: "payment-requests/:id", element: <PaymentRequestRoom /> },
      { path: "prepayments/invoices", element: <PrepaymentInvoicesRoom /> },
      { path: "prepayments/cards", element: <CardsRoom /> },
      { path: "prepayments/payouts", element: <PayoutsRoom /> },
      { path: "prepayments/:id", element: <DepositRoom /> },
      { path: "cards/:id", element: <CardRoom /> },
      { path: "card-payouts/:id", element: <PayoutRoom /> },
      { path: "returns", element: <ReturnsRoom /> },
      { path: "returns/new", element: <NewReturnRoom /> },
      { path: "returns/waiting", element: <WaitingRoom /> },
      { path: "returns/expected", element: <ExpectedRoom /> },
      { path: "returns/claims", element: <ClaimsRoom /> },
      // The charts are fetched with the only screen that draws them.
      {
        path: "returns/why",
        element: (
          <Suspense fallback={null}>
            <WhyRoom />
          </Suspense>
        ),
      },
      { path: "returns/:id", element: <ReturnRoom /> },
      { path: "receipts", element: <ReceiptsRoom /> },
      { path: "receipts/new", element: <NewReceiptRoom /> },
      { path: "receipts/:id", element: <ReceiptRoom /> },
      { path: "receipts/advice", element: <AdviceRoom /> },
      { path: "orders/to-finish", element: <ToFinishRoom /> },
      { path: "disputes", element: <DisputesRoom /> },
      { path: "bank-slips", element: <SlipsRoom /> },
      { path: "bank-slips/new", element: <NewSlipRoom /> },
      { path: "bank-slips/:id", element: <SlipRoom /> },
      { path: "bank", element: <BankRoom /> },
      { path: "bank/:id", element: <StatementRoom /> },
      { path: "customers", element: <CustomersRoom /> },
      { path: "customers/new", element: <NewCustomerRoom /> },
      { path: "customers/:id", element: <CustomerRoom /> },
      { path: "customers/:id/file", element: <CustomerFileRoom /> },
      { path: "items", element: <ItemsRoom /> },
      { path: "items/prices", element: <PricesRoom /> },
      { path: "items/new", element: <NewItemRoom /> },
      { path: "items/:id", element: <ItemRoom /> },
      { path: "ledger", element: <JournalRoom /> },
      { path: "ledger/trial-balance", element: <TrialBalanceRoom /> },
      { path: "ledger/open-items", element: <OpenItemsRoom /> },
      { path: "ledger/accounts/:number", element: <AccountRoom /> },
      { path: "entries/:id", element: <EntryRoom /> },
      { path: "approvals/:id", element: <ApprovalRoom /> },
      { path: "setup", element: <CompanyRoom /> },
      { path: "setup/goods", element: <GoodsRoom /> },
      { path: "setup/accounts", element: <AccountsRoom /> },
      { path: "setup/fields", element: <FieldsRoom /> },
      { path: "setup/people", element: <PeopleRoom /> },
      { path: "setup/limits", element: <LimitsRoom /> },
      { path: "setup/numbers", element: <NumbersRoom /> },
      { path: "setup/periods", element: <PeriodsRoom /> },
      { path: "setup/opening", element: <OpeningRoom /> },
      { path: "setup/money", element: <MoneySetupRoom /> },
      { path: "setup/returns", element: <ReturnsSetupRoom /> },
      { path: "setup/mail", element: <MailRoom /> },
      { path: "setup/record", element: <RecordRoom /> },
      { path: "me", element: <MeRoom /> },
      { path: "*", element: <LostWay /> },
    ],
  },
];
